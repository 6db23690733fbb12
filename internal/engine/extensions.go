package engine

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"vessik/internal/core/site"
)

// Extension is one that Debian has for a PHP, besides those that the engine brings.
type Extension struct {
	Name    string
	Package string
	About   string
	Here    bool // it was fetched
}

var (
	apiFolder = regexp.MustCompile(`^20[0-9]{6}$`)
	notForFPM = regexp.MustCompile(`^(cgi|cli|common|dev|embed|fpm|phpdbg|.*-all-dev)$`) // of PHP itself
	forOthers = regexp.MustCompile(`^(?:php[0-9.]*)-(.+)$`)
)

// Extensions lists what Debian has for a PHP besides what the engine brings, by name. It asks the archive.
func (s Store) Extensions(ctx context.Context, e *Engine) ([]Extension, error) {
	if e.Kind != PHP || e.Adopted != "" {
		return nil, fmt.Errorf("%s is no PHP that was fetched: what it brings is what there is", e.ID)
	}
	unlock, err := s.lock(ctx, func(string, float64) {})
	if err != nil {
		return nil, err
	}
	defer unlock()
	apt, err := s.newApt(e.Generation)
	if err != nil {
		return nil, err
	}
	if err := apt.update(ctx); err != nil {
		return nil, err
	}
	return s.extensions(ctx, apt, e)
}

func (s Store) extensions(ctx context.Context, apt *apt, e *Engine) ([]Extension, error) {
	row, err := s.Lookup(e.ID)
	if err != nil {
		return nil, err
	}
	api := ""
	folders, _ := filepath.Glob(filepath.Join(e.Root(), "usr/lib/php/*"))
	for _, folder := range folders {
		if apiFolder.MatchString(filepath.Base(folder)) {
			api = filepath.Base(folder)
		}
	}
	if api == "" {
		return nil, fmt.Errorf("%s has no folder of extensions", e.ID)
	}
	dependants, err := apt.ask(ctx, "showpkg", "phpapi-"+api)
	if err != nil {
		return nil, err
	}
	words, err := apt.ask(ctx, "search", "--names-only", "^php")
	if err != nil {
		return nil, err
	}
	about := map[string]string{}
	for line := range strings.Lines(words) {
		name, text, _ := strings.Cut(strings.TrimSpace(line), " - ")
		about[name] = text
	}
	found := map[string]Extension{}
	for line := range strings.Lines(dependants) {
		name, _, isDependant := strings.Cut(strings.TrimSpace(line), ",phpapi-"+api)
		match := forOthers.FindStringSubmatch(name)
		if !isDependant || match == nil || slices.Contains(row.Packages, name) || notForFPM.MatchString(match[1]) {
			continue
		}
		if known, twice := found[match[1]]; !twice || len(name) > len(known.Package) { // php8.4-redis rather than php-redis
			_, here := e.Extras[match[1]]
			found[match[1]] = Extension{Name: match[1], Package: name, About: about[name], Here: here}
		}
	}
	own := strings.Replace(e.ID, "php-", "php", 1) + "-" // of the same source as the PHP itself
	_, there, err := extensionsOf(e)
	if err != nil {
		return nil, err
	}
	for pack, text := range about {
		name, isOwn := strings.CutPrefix(pack, own)
		if _, known := found[name]; known || !isOwn || slices.Contains(row.Packages, pack) || notForFPM.MatchString(name) ||
			slices.Contains(there, name) && !e.isExtra(name) {
			continue
		}
		_, here := e.Extras[name]
		found[name] = Extension{Name: name, Package: pack, About: text, Here: here}
	}
	all := slices.Collect(maps.Values(found))
	slices.SortFunc(all, func(a, b Extension) int { return strings.Compare(a.Name, b.Name) })
	return all, nil
}

// ask asks the lists that update has fetched.
func (a *apt) ask(ctx context.Context, arguments ...string) (string, error) {
	path, err := exec.LookPath("apt-cache")
	if err != nil {
		return "", err
	}
	command := a.command(ctx, arguments...)
	command.Path, command.Err = path, nil
	out, err := command.Output()
	if err != nil {
		return "", archiveError(out, err)
	}
	return string(out), nil
}

// LacksExtensions are those that settings switch on and a PHP does not have, as far as it is here.
func (s Store) LacksExtensions(id string, settings site.Settings) (names []string) {
	e, err := s.Find(id)
	if err != nil || e.Adopted != "" {
		return nil
	}
	there, err := Switchable(e)
	if err != nil {
		return nil
	}
	for _, name := range slices.Sorted(maps.Keys(settings.Extensions)) {
		if settings.Extensions[name] && !slices.Contains(there, name) {
			names = append(names, name)
		}
	}
	return names
}

// AddExtensions fetches further extensions of a PHP beside what is in use. They are off in every site that does not switch them on.
func (s Store) AddExtensions(ctx context.Context, id string, names []string, progress Progress) error {
	unlock, err := s.lock(ctx, progress)
	if err != nil {
		return err
	}
	defer unlock()
	e, err := s.Find(id)
	if err != nil {
		return err
	}
	row, err := s.Lookup(id)
	if err != nil {
		return err
	}
	apt, err := s.newApt(e.Generation)
	if err != nil {
		return err
	}
	if err := apt.update(ctx); err != nil {
		return err
	}
	all, err := s.extensions(ctx, apt, e)
	if err != nil {
		return err
	}
	defer apt.clean()
	for _, name := range names {
		i := slices.IndexFunc(all, func(x Extension) bool { return x.Name == name })
		if i < 0 {
			return site.Problems{{Field: "extensions", Message: fmt.Sprintf("Debian has no extension %q for %s", name, id),
				Remedy: "see those that there are with: vessik engines extensions " + id + "; switch it off in the site's settings where it is not " +
					"needed"}}
		}
		if _, here := e.Extras[name]; here {
			continue
		}
		asked := row
		asked.Packages = append(slices.Clone(row.Packages), all[i].Package)
		if err := s.addExtension(ctx, apt, e, name, asked, progress); err != nil {
			return fmt.Errorf("fetch the extension %s: %w", name, err)
		}
	}
	return nil
}

// addExtension puts one extension, and all that it needs, beside what an engine has.
func (s Store) addExtension(ctx context.Context, apt *apt, e *Engine, name string, asked Row, progress Progress) error {
	progress("fetching "+name, -1)
	wanted, _, err := apt.bring(ctx, []Row{asked}, progress)
	if err != nil {
		return err
	}
	partial, err := os.MkdirTemp(s.Dir, ".partial-"+e.ID+"-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(partial)
	further := slices.DeleteFunc(slices.Clone(wanted[asked.ID]), func(p string) bool { return slices.Contains(e.Packages, p) })
	if err := apt.unpack(ctx, further, filepath.Join(partial, "root")); err != nil {
		return err
	}
	_, before, err := extensionsOf(e)
	if err != nil {
		return err
	}
	_, brought, err := extensionsOf(&Engine{ID: e.ID, Dir: partial})
	if err != nil {
		return err
	}
	own := slices.DeleteFunc(brought, func(each string) bool { return slices.Contains(before, each) && !e.isExtra(each) })
	if len(own) == 0 {
		return errors.New("its package brings no extension that is not there")
	}
	if e.Extras == nil {
		e.Extras = map[string][]string{}
	}
	e.Extras[name] = own
	return add(e, partial, further)
}

// Environment is what libraries of a PHP's extensions have to be told, since they do not stand where they were built for.
func (e *Engine) Environment() map[string]string {
	variables := map[string]string{}
	for name, pattern := range map[string]string{"MAGICK_CODER_MODULE_PATH": "usr/lib/*/ImageMagick-*/modules-*/coders",
		"MAGICK_CODER_FILTER_PATH": "usr/lib/*/ImageMagick-*/modules-*/filters", "MAGICK_CONFIGURE_PATH": "etc/ImageMagick-*"} {
		if found, _ := filepath.Glob(filepath.Join(e.Root(), pattern)); len(found) > 0 {
			variables[name] = found[0]
		}
	}
	return variables
}

// isExtra tells whether an extension is one that was fetched besides.
func (e *Engine) isExtra(name string) bool {
	for _, own := range e.Extras {
		if slices.Contains(own, name) {
			return true
		}
	}
	return false
}
