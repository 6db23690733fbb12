package origin

import (
	"context"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"vessik/internal/archive"
	"vessik/internal/cms"
	"vessik/internal/ownfile"
)

// Archives are those that an origin names: one, or several that belong together, one a line. Each has a folder of its own, by its number,
// where they are unpacked side by side.
func Archives(from string) []string { return strings.Split(from, "\n") }

// unreadable says what keeps one of some archives from being read.
func unreadable(from string) string {
	for _, each := range Archives(from) {
		if fault := Unreadable(each, false); fault != "" {
			return fault
		}
	}
	return ""
}

// bytesOf is what archives take, packed.
func bytesOf(from string) (bytes int64, err error) {
	for _, each := range Archives(from) {
		info, err := os.Stat(each)
		if err != nil {
			return 0, err
		}
		bytes += info.Size()
	}
	return bytes, nil
}

// unpackAll unpacks archives: one into a folder, several into folders in it.
func unpackAll(ctx context.Context, from, whole string) error {
	all := Archives(from)
	if len(all) == 1 {
		return archive.Unpack(ctx, from, whole, passingLinks)
	}
	for i, each := range all {
		if err := archive.Unpack(ctx, each, filepath.Join(whole, strconv.Itoa(i)), passingLinks); err != nil {
			return fmt.Errorf("%s: %w", filepath.Base(each), err)
		}
	}
	return nil
}

// join puts what other archives hold to where it belongs in the tree of the one that holds the CMS. What belongs nowhere is an error: it
// would be lost.
func join(k *cms.Definition, from, whole, top string, dumps []dumped) error {
	all := Archives(from)
	if len(all) == 1 {
		return nil
	}
	for _, each := range dumps { // one is taken out already, and the others belong to no site
		for _, name := range each.names {
			if err := ownfile.RemoveAll(filepath.Join(whole, filepath.FromSlash(name))); err != nil {
				return err
			}
		}
	}
	first, _, _ := strings.Cut(strings.TrimPrefix(filepath.ToSlash(top), filepath.ToSlash(whole)+"/"), "/")
	for i, each := range all {
		if strconv.Itoa(i) == first {
			continue
		}
		part := filepath.Join(whole, strconv.Itoa(i))
		place, ok := placeOf(k, part, top)
		if !ok {
			return fmt.Errorf("%s holds nothing that is known to belong into %s: unpack it by hand where it belongs, and take the folder with "+
				"-adopt", filepath.Base(each), k.Title)
		}
		if err := merge(filepath.Join(part, filepath.FromSlash(place.inside)), filepath.Join(top, filepath.FromSlash(place.below))); err != nil {
			return err
		}
	}
	return nil
}

// place is where files of an archive belong: what lies in a folder of it, into a folder of the site.
type place struct{ inside, below string }

// placeOf finds where an archive's files belong, by the names of folders that the site has, or that the CMS knows.
func placeOf(k *cms.Definition, part, top string) (at place, ok bool) {
	folders := known(k, top)
	for inside := "."; ; {
		names, err := ownfile.List(filepath.Join(part, filepath.FromSlash(inside)))
		if err != nil {
			return at, false
		}
		if len(names) == 0 { // nothing is in it but what was taken out, such as a dump
			return place{inside, "."}, true
		}
		for _, parent := range folders {
			for _, name := range names {
				if name.IsDir() && slices.Contains(folders, path.Join(parent, name.Name())) {
					return place{inside, parent}, true
				}
			}
		}
		if len(names) != 1 || !names[0].IsDir() {
			return at, false
		}
		if inside = path.Join(inside, names[0].Name()); strings.Count(inside, "/") > 20 {
			return at, false
		}
	}
}

func isFolder(path string) bool {
	info, err := os.Lstat(path)
	return err == nil && info.IsDir()
}

// known are the folders of a site that archives may hold: those that its CMS knows, and those above them and two levels of what is there,
// the least deep first.
func known(k *cms.Definition, top string) []string {
	all := []string{"."}
	add := func(folder string) {
		for ; folder != "." && folder != "" && !slices.Contains(all, folder); folder = path.Dir(folder) {
			all = append(all, folder)
		}
	}
	within := func(folder string) (folders []string) {
		entries, err := ownfile.List(filepath.Join(top, filepath.FromSlash(folder)))
		if err != nil {
			return nil
		}
		for _, e := range entries {
			if e.IsDir() {
				folders = append(folders, path.Join(folder, e.Name()))
			}
		}
		return folders
	}
	for _, folder := range k.Layout.Uploads {
		add(folder)
	}
	for _, folder := range within(".") {
		add(folder)
		for _, inner := range within(folder) {
			add(inner)
		}
	}
	for _, part := range k.Parts {
		add(part.Into)
		for _, folder := range within(part.Into) {
			add(folder)
		}
	}
	slices.SortStableFunc(all, func(a, b string) int { return strings.Count(a+"/", "/") - strings.Count(b+"/", "/") })
	return all
}

// merge moves what lies in a folder into another one. Of two files of one name, the one that comes stays.
func merge(from, to string) error {
	if err := ownfile.Make(to, 0o755); err != nil {
		return err
	}
	entries, err := ownfile.List(from)
	if err != nil {
		return err
	}
	for _, e := range entries {
		source, target := filepath.Join(from, e.Name()), filepath.Join(to, e.Name())
		if e.IsDir() && isFolder(target) {
			if err := merge(source, target); err != nil {
				return err
			}
			continue
		}
		if err := ownfile.RemoveAll(target); err != nil {
			return err
		}
		if err := ownfile.Rename(source, target); err != nil {
			return err
		}
	}
	return nil
}
