package hosting

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"sort"
	"strings"
	"sync"
	"time"
	"unicode"

	"golang.org/x/sync/errgroup"
)

// How much of a host is listed: a hostile one has no end.
const (
	mostEntries = 1_000_000
	deepest     = 60 // folders in each other
)

// Listing is all that lies in an account's folder, folders before what is in them.
type Listing struct {
	Entries []Entry
	Other   int      // links and the like, which are not carried
	Unfit   []string // names that no site can have here, as they can be shown
	Denied  []string // folders that could not be read
}

// Bytes is what all files take.
func (l Listing) Bytes() (bytes int64) {
	for _, e := range l.Entries {
		bytes += e.Size
	}
	return bytes
}

// errEndless says that a host has more than a site can have.
var errEndless = fmt.Errorf("the host lists more than %d files, or folders deeper than %d: is the account's folder that of one site?",
	mostEntries, deepest)

// add judges a name that a host told, and keeps it.
func (l *Listing) add(e Entry) error {
	switch {
	case !Fits(e.Path):
		l.Unfit = append(l.Unfit, fmt.Sprintf("%.200q", e.Path))
	case len(l.Entries) >= mostEntries || strings.Count(e.Path, "/") > deepest:
		return errEndless
	case e.Folder || e.Regular && e.Size >= 0:
		l.Entries = append(l.Entries, e)
	default:
		l.Other++
	}
	return nil
}

// Fits tells whether a name that somebody else gave is one in the folder of a site.
func Fits(name string) bool {
	return fs.ValidPath(name) && name != "." && len(path.Base(name)) <= 255 && len(name) < 4000 &&
		!strings.ContainsFunc(name, unicode.IsControl)
}

func (l *Listing) sort() {
	sort.Slice(l.Entries, func(i, j int) bool { return l.Entries[i].Path < l.Entries[j].Path })
}

// List asks the helper for all that lies in the account's folder, but for what is left out.
func (h *Helper) List(ctx context.Context, without []string) (l Listing, err error) {
	left := []string{""}
	for requests := 0; len(left) > 0; requests++ {
		var answer struct {
			Left []string `json:"left"`
		}
		var data *bounded
		asked := map[string]any{"left": left, "without": append([]string{}, without...)}
		if err := h.asked(ctx, "files", asked, func() io.Writer { data = &bounded{most: mostOfListing}; return data }, &answer); err != nil {
			return l, err
		}
		if err := l.read(data.Bytes()); err != nil {
			return l, err
		}
		if left = answer.Left; len(left) > mostEntries || requests > mostEntries {
			return l, errEndless
		}
	}
	l.sort()
	return l, nil
}

// mostOfListing bounds one answer, in bytes.
const mostOfListing = 512 << 20

// bounded is a buffer that takes no more than a number of bytes.
type bounded struct {
	bytes.Buffer
	most int
}

func (b *bounded) Write(text []byte) (int, error) {
	if b.Len()+len(text) > b.most {
		return 0, errEndless
	}
	return b.Buffer.Write(text)
}

// read reads what the helper lists, a JSON array a line.
func (l *Listing) read(text []byte) error {
	for line := range bytes.Lines(text) {
		var kind string
		var name []byte
		var size, modified, executable int64
		fields := []any{&kind, &name, &size, &modified, &executable}
		if err := json.Unmarshal(line, &fields); err != nil || len(fields) > 5 {
			return errors.New("the host's listing is not to be read")
		}
		e := Entry{Path: string(name), Folder: kind == "folder", Regular: kind == "file", Executable: executable != 0, Size: size,
			Modified: time.Unix(modified, 0).UTC()}
		if kind == "denied" {
			l.Denied = append(l.Denied, fmt.Sprintf("%.200q", e.Path))
		} else if err := l.add(e); err != nil {
			return err
		}
	}
	return nil
}

// ListBy lists an account's folder without a helper, folder by folder.
func ListBy(ctx context.Context, line Line, without []string) (l Listing, err error) {
	left := map[string]bool{}
	for _, each := range without {
		left[each] = true
	}
	var mu sync.Mutex
	level := []string{""}
	for len(level) > 0 {
		next := []string{}
		group, ctx := errgroup.WithContext(ctx)
		group.SetLimit(line.Parallel())
		for _, folder := range level {
			group.Go(func() error {
				found, err := line.List(ctx, folder)
				mu.Lock()
				defer mu.Unlock()
				if errors.Is(err, fs.ErrPermission) && folder != "" {
					l.Denied = append(l.Denied, fmt.Sprintf("%.200q", folder))
					return nil
				}
				if err != nil {
					return err
				}
				for _, e := range found {
					if left[e.Path] {
						continue
					}
					if err := l.add(e); err != nil {
						return err
					}
					if e.Folder && Fits(e.Path) {
						next = append(next, e.Path)
					}
				}
				return nil
			})
		}
		if err := group.Wait(); err != nil {
			return l, err
		}
		level = next
	}
	l.sort()
	return l, nil
}
