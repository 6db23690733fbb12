package main

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"image"
	"image/png"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"text/tabwriter"

	"golang.org/x/sync/errgroup"

	"vessik/client"
	"vessik/internal/core/screens"
)

var screensCommand = command{name: "screens", names: "NAME [PATH…]", about: "take pictures of pages in every screen size",
	synopsis: "Takes pictures of whole pages (the front page unless you name some), each in every size, light, and with -dark dark as " +
		"well, and " +
		"puts\nthem side by side on a sheet. They go into a folder (-o); -against compares with an earlier folder, -against-site with " +
		"another site:\nit tells the share of the pixels that differ, and marks them. Exit code 3 where some differ by more than -most percent.",
	example: "vessik screens orchard-days\nvessik screens orchard-days / /sample-page/ -sizes phone,laptop,360x640 -dark " +
		"-o screens\n" +
		"vessik screens orchard-days -against screens -o screens-now", run: runScreens}

// screenshots are what is asked of the command.
type screenshots struct {
	site, against, other, folder string
	paths                        []string
	sizes                        []screens.Size
	dark                         bool
	most                         float64
}

// screenTaken is one picture.
type screenTaken struct {
	Page      string   `json:"page"`
	Size      string   `json:"size"`
	Dark      bool     `json:"dark"`
	File      string   `json:"file"`
	Width     int      `json:"width"`
	Height    int      `json:"height"`
	Different *float64 `json:"different,omitempty"` // share of the pixels, 0 to 1
	Marked    string   `json:"marked,omitempty"`

	picture image.Image
}

func runScreens(ctx context.Context, c *call) error {
	var asked screenshots
	sizes := c.flags.String("sizes", "phone,tablet,laptop,wide", "phone, tablet, laptop, wide, or such as 390x844")
	c.flags.BoolVar(&asked.dark, "dark", false, "also as somebody sees it who prefers dark pages")
	c.flags.StringVar(&asked.folder, "o", "", "folder for the pictures (default: screens-NAME)")
	c.flags.StringVar(&asked.against, "against", "", "folder of earlier pictures to compare with")
	c.flags.StringVar(&asked.other, "against-site", "", "another site to compare with")
	c.flags.Float64Var(&asked.most, "most", 0.1, "percent of the pixels of a picture that may differ")
	service, err := c.connect(func() (err error) {
		if asked.against != "" && asked.other != "" {
			return usageError{"say -against or -against-site"}
		}
		if asked.sizes, err = screens.Parse(*sizes); err != nil {
			return usageError{"-sizes: " + err.Error()}
		}
		return nil
	})
	if err != nil {
		return err
	}
	asked.site, asked.paths = c.names[0], c.names[1:]
	if len(asked.paths) == 0 {
		asked.paths = []string{"/"}
	}
	asked.folder = cmp.Or(asked.folder, "screens-"+asked.site)
	if asked.against != "" && filepath.Clean(asked.against) == filepath.Clean(asked.folder) {
		return usageError{"-against is the folder that is written; name another one with -o"}
	}
	taken, err := asked.takeAll(ctx, service)
	if err != nil {
		return err
	}
	sheet := filepath.Join(asked.folder, "sheet.png")
	if err := asked.sheet(taken, sheet); err != nil {
		return err
	}
	if *c.json {
		err = c.printJSON(taken)
	} else {
		err = c.tellScreens(taken, sheet)
	}
	for _, each := range taken {
		if err == nil && each.Different != nil && *each.Different*100 > asked.most {
			return exitCode(exitCheckFailed)
		}
	}
	return err
}

// takeAll takes all pictures, two at a time as the service does.
func (a screenshots) takeAll(ctx context.Context, service *client.Client) ([]*screenTaken, error) {
	all := []*screenTaken{}
	for _, page := range a.paths {
		for _, size := range a.sizes {
			all = append(all, &screenTaken{Page: page, Size: size.Name})
			if a.dark {
				all = append(all, &screenTaken{Page: page, Size: size.Name, Dark: true})
			}
		}
	}
	files := map[string]string{}
	for _, each := range all {
		each.File = filepath.Join(a.folder, each.name()+".png")
		if files[each.File] != "" {
			return nil, usageError{fmt.Sprintf("%s and %s make one picture; say each page and size once", files[each.File], each.Page)}
		}
		files[each.File] = each.Page
	}
	if err := os.MkdirAll(a.folder, 0o755); err != nil {
		return nil, err
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(2)
	for _, each := range all {
		group.Go(func() (err error) {
			if each.picture, err = each.take(ctx, service, a.site, each.File); err != nil {
				return fmt.Errorf("%s in %s: %w", each.Page, each.Size, err)
			}
			each.Width, each.Height = each.picture.Bounds().Dx(), each.picture.Bounds().Dy()
			return a.compare(ctx, service, each)
		})
	}
	return all, group.Wait()
}

// name is what a picture's file is called: what stands in a folder is found again by it. What cannot be a name as it is has a sum in it.
func (s *screenTaken) name() string {
	page := strings.Trim(s.Page, "/")
	name := strings.ReplaceAll(page, "/", "--")
	if strings.Contains(page, "--") || len(name) > longestName || !plainName.MatchString(name) {
		sum := sha256.Sum256([]byte(page))
		name = strings.Trim(notInNames.ReplaceAllString(name, "-"), "-")
		name = fmt.Sprintf("%s-%x", name[:min(len(name), longestName)], sum[:4])
	}
	name = cmp.Or(name, "front") + "-" + s.Size
	if s.Dark {
		name += "-dark"
	}
	return name
}

const longestName = 80 // of the part that says which page, in bytes

var (
	plainName  = regexp.MustCompile(`^[\pL\pN_-]*$`)
	notInNames = regexp.MustCompile(`[^a-zA-Z0-9_]+`)
)

// take takes a picture of a site, and writes it where a file is named.
func (s *screenTaken) take(ctx context.Context, service *client.Client, of, file string) (image.Image, error) {
	var text bytes.Buffer
	if err := service.Screen(ctx, of, s.Page, s.Size, s.Dark, &text); err != nil {
		return nil, err
	}
	if file != "" {
		if err := os.WriteFile(file, text.Bytes(), 0o644); err != nil {
			return nil, err
		}
	}
	return png.Decode(&text)
}

// compare compares a picture with the one that was asked for; where there was none, nothing is told.
func (a screenshots) compare(ctx context.Context, service *client.Client, s *screenTaken) error {
	var before image.Image
	var err error
	switch {
	case a.other != "":
		before, err = s.take(ctx, service, a.other, "")
	case a.against != "":
		var text []byte
		if text, err = os.ReadFile(filepath.Join(a.against, s.name()+".png")); errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err == nil {
			before, err = png.Decode(bytes.NewReader(text))
		}
	}
	if err != nil || before == nil {
		return err
	}
	different, marked := screens.Compare(before, s.picture)
	if s.Different = &different; different == 0 {
		return nil
	}
	s.Marked = filepath.Join(a.folder, s.name()+"-marked.png")
	return writePNG(s.Marked, marked)
}

func writePNG(file string, picture image.Image) error {
	var text bytes.Buffer
	if err := png.Encode(&text, picture); err != nil {
		return err
	}
	return os.WriteFile(file, text.Bytes(), 0o644)
}

// sheet puts all side by side, a row a page.
func (a screenshots) sheet(taken []*screenTaken, file string) error {
	rows := [][]screens.Shown{}
	for i, s := range taken {
		if i == 0 || s.Page != taken[i-1].Page {
			rows = append(rows, nil)
		}
		caption := s.Page + "  " + s.Size
		if s.Dark {
			caption += ", dark"
		}
		rows[len(rows)-1] = append(rows[len(rows)-1], screens.Shown{Caption: caption, Picture: s.picture})
	}
	return writePNG(file, screens.Sheet(rows))
}

func (c *call) tellScreens(taken []*screenTaken, sheet string) error {
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, bold(c.out, "PAGE")+"\tSIZE\tAPPEARANCE\tPIXELS\tDIFFERENT\tPICTURE")
	for _, s := range taken {
		appearance, different := "light", "-"
		if s.Dark {
			appearance = "dark"
		}
		if s.Different != nil {
			different = fmt.Sprintf("%.2f %%", *s.Different*100)
		}
		fmt.Fprintf(table, "%s\t%s\t%s\t%d x %d\t%s\t%s\n", short(s.Page, 50), s.Size, appearance, s.Width, s.Height, different,
			cmp.Or(s.Marked, s.File))
	}
	if err := table.Flush(); err != nil {
		return err
	}
	fmt.Fprintf(c.out, "\nSide by side: %s\n", sheet)
	return nil
}
