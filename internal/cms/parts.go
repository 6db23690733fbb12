package cms

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"vessik/internal/core/site"
	"vessik/internal/engine"
	"vessik/internal/safefile"
)

// Installed is a plugin or theme that is in a site's folder.
type Installed struct {
	Part    *Part
	Name    string // of its folder; of its file without the ending where it has none
	Main    string // the file that says what it is, below the folder of all such parts
	Title   string
	Version string
	Shared  string // folder outside of the site's that stands there
	On      bool
}

// Place is where it stands in the site's folder.
func (i Installed) Place() string {
	if dir := path.Dir(i.Main); dir != "." {
		return path.Join(i.Part.Into, dir)
	}
	return path.Join(i.Part.Into, i.Main)
}

// ListsParts tells whether the definition says how the plugins or themes of a site are found.
func (k *Definition) ListsParts() bool {
	return slices.ContainsFunc(k.Parts, func(p Part) bool { return p.Here != "" })
}

// Installed lists the plugins and themes in a site's folder, by kind and name. Nothing of the site is run.
func (k *Definition) Installed(s site.Site) (found []Installed, err error) {
	for n := range k.Parts {
		part := &k.Parts[n]
		if part.Here == "" {
			continue
		}
		seen := []Installed{}
		names, err := namesIn(s.Folder, part.Into)
		if err != nil {
			return nil, err
		}
		for _, name := range names {
			if one, ok := part.installed(s, name); ok {
				seen = append(seen, one)
			}
		}
		slices.SortFunc(seen, func(a, b Installed) int { return strings.Compare(a.Name, b.Name) })
		found = append(found, seen...)
	}
	return found, nil
}

// installed reads what one entry of a folder of parts is.
func (p *Part) installed(s site.Site, name string) (one Installed, ok bool) {
	folder, below := s.Folder, path.Join(p.Into, name)
	for _, shared := range s.Settings.Bound() {
		if shared.Place == below {
			folder, below, one.Shared = shared.Folder, ".", shared.Folder
		}
	}
	candidates := map[string]string{name: below} // main files, and where they are
	files, err := namesIn(folder, below)
	if err == nil {
		candidates = map[string]string{}
		for _, file := range files {
			candidates[path.Join(name, file)] = path.Join(below, file)
		}
	}
	mains := []string{}
	for main := range candidates {
		mains = append(mains, main)
	}
	slices.Sort(mains)
	for _, main := range mains {
		if !p.here.MatchString(main) {
			continue
		}
		if title, version := p.Read(headOf(folder, candidates[main])); title != "" {
			one.Part, one.Main, one.Title, one.Version = p, main, html.UnescapeString(title), version
			one.Name = name
			if err != nil { // a file of its own
				one.Name = strings.TrimSuffix(name, path.Ext(name))
			}
			return one, true
		}
	}
	return one, false
}

// namesIn lists a folder in a folder; nothing where it is not there.
func namesIn(folder, below string) (names []string, err error) {
	names, err = safefile.List(folder, below)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return slices.DeleteFunc(names, func(name string) bool { return strings.HasPrefix(name, ".") }), err
}

// headOf reads the beginning of a file; nothing where it cannot be read.
func headOf(folder, name string) string {
	file, err := safefile.Open(folder, name)
	if err != nil {
		return ""
	}
	defer file.Close()
	head, _ := io.ReadAll(io.LimitReader(file, 64<<10))
	return string(head)
}

// MarkActive tells of parts whether they are on, as the site's database has it. None of them is run.
func (k *Definition) MarkActive(ctx context.Context, php *engine.Engine, s site.Site, facts Facts, all []Installed) error {
	for n := range k.Parts {
		part := &k.Parts[n]
		if part.Here == "" || !slices.ContainsFunc(all, func(i Installed) bool { return i.Part == part }) {
			continue
		}
		answer, err := k.inside(ctx, php, s, facts, true, "", part.Active)
		if err != nil {
			return fmt.Errorf("which %ss are on: %w", part.Kind, err)
		}
		var mains []string
		if err := json.Unmarshal(answer, &mains); err != nil {
			return fmt.Errorf("which %ss are on: %w", part.Kind, err)
		}
		for i := range all {
			if all[i].Part == part {
				all[i].On = slices.Contains(mains, all[i].Main)
			}
		}
	}
	return nil
}

// SwitchOff switches parts of one kind off: as the CMS does it, or where it does not load any more, in its records.
func (k *Definition) SwitchOff(ctx context.Context, php *engine.Engine, s site.Site, facts Facts, part *Part, mains []string) error {
	value := strings.Join(mains, ";")
	err := k.With(ctx, php, s, facts, value, part.Deactivate)
	if err == nil || part.SwitchOff == "" {
		return err
	}
	_, err = k.inside(ctx, php, s, facts, true, value, part.SwitchOff)
	return err
}
