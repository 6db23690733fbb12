package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"

	"golang.org/x/term"

	"vessik/client"
	"vessik/internal/archive"
	"vessik/internal/parcel"
)

var parcelCommand = command{name: "parcel", names: "NAME", about: "write a whole site into one file",
	synopsis: "Writes a site into a new file: a manifest, its files, its database as it is at one moment, and checksums of all, as a tar " +
		"archive with Zstandard,\nor with -zip as a zip archive. Passwords and secrets of its configuration stay here, and so do " +
		"helpers and settings that name\nwhat this machine has; the site's own users go with it. -for writes the address into the database " +
		"that the site is to have where it goes.\nvessik new NAME -parcel FILE makes a site of it, on any stack; vessik unpack FILE NAME puts " +
		"it in the place of one.",
	example: "vessik parcel orchard-days\nvessik parcel orchard-days -o orchard.zip -for https://orchard.example\n" +
		"vessik parcel orchard-days -without uploads -without wp-content/cache -no-database", run: runParcel}

func runParcel(ctx context.Context, c *call) error {
	var asked client.MakeParcel
	var without list
	file := c.flags.String("o", "", "file to be written, which must not be there (default: NAME.parcel.tar.zst, or .zip)")
	c.flags.BoolVar(&asked.Zip, "zip", false, "a zip archive; so it is where the file's name ends in .zip")
	c.flags.Var(&without, "without", "uploads, caches, or a path in the site's folder that is left out; may be given more than once")
	c.flags.BoolVar(&asked.NoDatabase, "no-database", false, "leave the database out")
	c.flags.StringVar(&asked.For, "for", "", "address that the site is to have where it goes, such as https://orchard.example")
	lander := c.flags.Bool("with-lander", false, "write a PHP file beside it, a zip archive, that lands the site at a host "+
		"without Vessik")
	service, err := c.connect()
	if err != nil {
		return err
	}
	asked.Without = without
	if !*lander {
		return c.writeParcel(ctx, service, "", *file, asked)
	}
	if *file == "" {
		*file = parcel.FileName(c.names[0], archive.Zip)
	}
	if !strings.HasSuffix(*file, ".zip") {
		return usageError{"-with-lander: a lander reads a zip archive; have the file's name end in .zip"}
	}
	return c.writeLanding(ctx, service, *file, asked)
}

// writeLanding writes a parcel and its lander, both or none, and tells the key.
func (c *call) writeLanding(ctx context.Context, service *client.Client, file string, asked client.MakeParcel) error {
	lander, err := service.Lander(ctx, c.names[0], filepath.Base(file))
	if err != nil {
		return err
	}
	beside := filepath.Join(filepath.Dir(file), lander.Name)
	to, err := newFile(beside)
	if err != nil {
		return err
	}
	_, err = io.WriteString(to, lander.Text)
	bytes := int64(0)
	if err = errors.Join(err, to.Close()); err == nil {
		bytes, err = c.pack(ctx, service, "", file, asked)
	}
	if err != nil {
		os.Remove(beside)
		return err
	}
	if *c.json {
		return c.printJSON(map[string]any{"file": file, "lander": beside, "key": lander.Secret})
	}
	fmt.Fprintf(c.out, "written: %s (%s)\nwritten: %s\nUpload both into the empty folder that is to be served, in binary mode, and "+
		"open the lander in a browser within an hour.\nIts key, which is told only here: %s\n", file, sizeOf(bytes), beside, lander.Secret)
	return nil
}

// writeParcel writes a site, or a restore point of it, into a file, and tells of that.
func (c *call) writeParcel(ctx context.Context, service *client.Client, point, file string, asked client.MakeParcel) error {
	if file == "" {
		form := archive.TarZstd
		if asked.Zip {
			form = archive.Zip
		}
		file = parcel.FileName(c.names[0], form)
	}
	bytes, err := c.pack(ctx, service, point, file, asked)
	if err != nil {
		return err
	}
	if *c.json {
		said, err := parcel.Read(file)
		return errors.Join(err, c.printJSON(map[string]any{"file": file, "size_bytes": bytes, "parcel": said}))
	}
	fmt.Fprintf(c.out, "written: %s (%s)\n", file, sizeOf(bytes))
	return nil
}

// pack writes a parcel into a file that is whole or not there, and says how large it is.
func (c *call) pack(ctx context.Context, service *client.Client, point, file string, asked client.MakeParcel) (bytes int64, err error) {
	asked.Zip = asked.Zip || strings.HasSuffix(file, ".zip")
	to, err := newFile(file)
	if err != nil {
		return 0, err
	}
	written := &writtenSoFar{to: to}
	var end func()
	err = service.Parcel(ctx, c.names[0], point, asked, written, func(bytes int64) { end = written.tell(bytes) })
	if end != nil {
		end()
	}
	if err = errors.Join(err, to.Close()); err != nil {
		os.Remove(file)
	}
	return written.bytes.Load(), err
}

// newFile makes a file that is not there yet.
func newFile(path string) (*os.File, error) {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, os.ErrExist) {
		return nil, usageError{fmt.Sprintf("-o: %s is there already; choose another name, or remove it", path)}
	}
	return file, err
}

// writtenSoFar counts what is written.
type writtenSoFar struct {
	to    io.Writer
	bytes atomic.Int64
}

func (w *writtenSoFar) Write(text []byte) (int, error) {
	n, err := w.to.Write(text)
	w.bytes.Add(int64(n))
	return n, err
}

// tell writes every second, to a terminal, how much is written of what is packed, until it is ended.
func (w *writtenSoFar) tell(packed int64) (end func()) {
	if !term.IsTerminal(int(os.Stderr.Fd())) {
		return func() {}
	}
	return everySecond(func() string {
		return fmt.Sprintf("%s written, of %s to be packed", sizeOf(w.bytes.Load()), sizeOf(packed))
	})
}

var unpackCommand = command{name: "unpack", names: "FILE NAME", about: "put a parcel in the place of a site",
	synopsis: "Puts a parcel's files and database in the place of a site's, re-addressed to it; name, domain, stack and settings stay. A " +
		"restore point is taken first;\nthe site is verified before and after, and goes back when a check fails that passed before. What the " +
		"parcel was made without stays as it is.",
	example: "vessik unpack orchard-days.parcel.tar.zst orchard-days -dry-run\nvessik unpack orchard-days.parcel.tar.zst orchard-days",
	run:     runUnpack}

func runUnpack(ctx context.Context, c *call) error {
	stay := c.flags.Bool("stay", false, "stay with it although a check fails")
	dry := c.flags.Bool("dry-run", false, "tell what the parcel holds, and change nothing")
	service, err := c.connect(func() error {
		if len(c.names) != 2 {
			return usageError{"name the parcel and the site: unpack FILE NAME"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	file, err := filepath.Abs(c.names[0])
	if err != nil {
		return err
	}
	done, err := c.bring(ctx, service, &file)
	if err != nil {
		return err
	}
	defer done()
	if *dry {
		said, err := service.PreviewUnpacking(ctx, c.names[1], file)
		return c.showParcel(said, err)
	}
	operation, err := service.Unpack(ctx, c.names[1], file, *stay)
	return c.showChange(ctx, service, operation, err)
}

// showParcel tells what a parcel holds.
func (c *call) showParcel(p client.Parcel, err error) error {
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(p)
	}
	database := "no database"
	if p.Database {
		database = "a database of " + sizeOf(p.DatabaseBytes) + " with " + p.URL
	}
	fmt.Fprintf(c.out, "%s (%q), %s %s, of %s\n%d files (%s), and %s\n", p.Site, p.Title, p.CMS.Name, p.CMS.Version,
		p.MadeAt.Local().Format("2006-01-02 15:04"), p.Files, sizeOf(p.FileBytes), database)
	if len(p.LeftOut) > 0 {
		fmt.Fprintf(c.out, "made without %s: what is there stays\n", strings.Join(p.LeftOut, ", "))
	}
	fmt.Fprintln(c.out, "Nothing was changed.")
	return nil
}
