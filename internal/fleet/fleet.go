// Package fleet is what is done with sites as members of the fleet: how they are labelled, the file by which one is made again elsewhere,
// and the fleet file.
package fleet

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"github.com/klauspost/compress/zstd"

	file "vessik/internal/core/fleet"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/facts"
	"vessik/internal/operation"
	"vessik/internal/running"
	"vessik/internal/safefile"
)

// Feature is the fleet of one machine.
type Feature struct {
	Machine    *running.Machine
	Operations *operation.Runner
	Facts      *facts.Facts
	Changes    Changes
	// Judge says what is wrong with requests for sites.
	Judge func(requests []site.Request) site.Problems
}

// SiteDump is what the dump beside a site's own file is called: no web server serves a file whose name begins with a dot.
const SiteDump = ".vessik-site.sql.zst"

// WriteSiteFile writes a site's own file into its folder, and beside it, if asked to, its content without passwords.
func (f *Feature) WriteSiteFile(ctx context.Context, name string, text []byte, content bool) ([]string, error) {
	s, ok := f.Machine.Registry.Site(name)
	if !ok {
		return nil, site.NoSite(name)
	}
	files := []string{filepath.Join(s.Folder, file.SiteFileName)}
	if content {
		files = append(files, filepath.Join(s.Folder, SiteDump))
		if err := safefile.Write(s.Folder, SiteDump, 0o600, func(w io.Writer) error {
			packed, err := zstd.NewWriter(w)
			if err != nil {
				return err
			}
			return errors.Join(f.Machine.DumpWithoutSecrets(ctx, s, packed), packed.Close())
		}); err != nil {
			return nil, err
		}
	}
	return files, safefile.WriteFile(s.Folder, file.SiteFileName, text, 0o644)
}

// Label changes how sites are shown in the fleet.
func (f *Feature) Label(ctx context.Context, l wire.Label) error {
	problems := site.Problems{}
	for _, name := range l.Names {
		if _, ok := f.Machine.Registry.Site(name); !ok {
			problems = append(problems, site.NoSite(name)...)
		}
	}
	for field, text := range map[string]*string{"group": l.Group, "note": l.Note} {
		if most := map[string]int{"group": 60, "note": 2000}[field]; text != nil && len([]rune(*text)) > most {
			problems = append(problems, site.Problem{Field: field, Message: fmt.Sprintf("the %s is %d characters long", field, len([]rune(*text))),
				Remedy: fmt.Sprintf("shorten it to %d", most)})
		}
	}
	if len(problems) > 0 {
		return problems
	}
	for _, name := range slices.Compact(slices.Sorted(slices.Values(l.Names))) {
		err := f.Machine.Registry.Edit(ctx, name, func(s *site.Site) error {
			if l.Group != nil {
				s.Group = strings.TrimSpace(*l.Group)
			}
			if l.Note != nil {
				s.Note = *l.Note
			}
			if l.Pinned != nil {
				s.Pinned = *l.Pinned
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}
