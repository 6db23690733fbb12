package invite

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/guest"
	"vessik/internal/ownfile"
)

// mostAsked is how much is kept of who asked what of a site, in bytes, and as much again of what was before.
const mostAsked = 4 << 20

func (f *Feature) askedFile(name string) string {
	return f.Machine.Home.Path("guests", name, "asked.jsonl")
}

// noted keeps who asked what. A full disk takes no request down.
func (f *Feature) noted(i guest.Invitation, asked wire.Guested) {
	line, err := json.Marshal(asked)
	if err != nil {
		return
	}
	f.mu.Lock()
	o := f.open[i.ID]
	if o != nil {
		if o.requests++; asked.Refused != "" {
			o.refused++
		}
	}
	f.mu.Unlock()
	if o == nil {
		return
	}
	f.asking.Lock()
	defer f.asking.Unlock()
	file := f.askedFile(i.Site)
	if ownfile.Size(file) > mostAsked {
		if err := ownfile.Rename(file, file+".1"); err != nil {
			return
		}
	}
	s, known := f.Machine.Registry.Site(i.Site)
	if !known || !s.CreatedAt.Equal(o.identity) || ownfile.Make(filepath.Dir(file), 0o700) != nil {
		return
	}
	to, err := ownfile.OpenFile(file, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err == nil {
		to.Write(append(line, '\n'))
		to.Close()
	}
}

// Asked are the last requests of guests of a site, the newest first.
func (f *Feature) Asked(name string, most int) ([]wire.Guested, error) {
	s, known := f.Machine.Registry.Site(site.ASCII(name))
	if !known {
		return nil, site.NoSite(name)
	}
	all := []wire.Guested{}
	for _, file := range []string{f.askedFile(s.Name) + ".1", f.askedFile(s.Name)} {
		text, err := ownfile.Read(file)
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(text)) {
			var one wire.Guested
			if json.Unmarshal([]byte(line), &one) == nil {
				all = append(all, one)
			}
		}
	}
	slices.Reverse(all)
	return all[:min(len(all), most)], nil
}
