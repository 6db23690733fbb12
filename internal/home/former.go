package home

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"vessik/internal/ownfile"
)

// TakeOn brings files that an earlier version wrote to today's names: definitions of CMS of the user's own, and the defaults. What is
// named so already is left alone, so that it may be called again, also after a crash in the middle. The error is all that could not be.
func (h Home) TakeOn() error {
	var faults []error
	for _, partial := range ownfile.Find(h.Path("cms", ".partial-*")) {
		faults = append(faults, ownfile.RemoveAll(partial))
	}
	for _, file := range ownfile.Find(h.Path("kits", "*", "kit.yaml")) {
		faults = append(faults, h.takeOnDefinition(filepath.Dir(file)))
	}
	_ = ownfile.Remove(h.Path("kits")) // what else the user put there stays
	for _, file := range append(ownfile.Find(h.Path("touches", "*.sql")), h.Path("vessik.yaml")) {
		faults = append(faults, rewrite(file, file))
	}
	return errors.Join(faults...)
}

// takeOnDefinition copies a definition to the new place, over nothing that is there: its folder may be a link, or another account's. The
// old one goes where the account may remove it.
func (h Home) takeOnDefinition(folder string) error {
	name := filepath.Base(folder)
	to, partial := h.Path("cms", name), h.Path("cms", ".partial-"+name)
	if _, err := os.Lstat(to); err == nil {
		return nil
	}
	if err := ownfile.CopyTree(partial, os.DirFS(folder)); err != nil {
		return err
	}
	former := filepath.Join(partial, "kit.yaml")
	if err := rewrite(former, filepath.Join(partial, "cms.yaml")); err != nil {
		return err
	}
	if err := errors.Join(ownfile.Remove(former), ownfile.Rename(partial, to)); err != nil {
		return err
	}
	_ = ownfile.RemoveAll(folder)
	return nil
}

// rewrite writes a file's text in today's words.
func rewrite(from, to string) error {
	text, err := ownfile.Read(from)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	next := inTodaysWords(string(text))
	if from == to && next == string(text) {
		return nil
	}
	return ownfile.Write(to, []byte(next), 0o600)
}

var (
	formerKeys = strings.NewReplacer(".Admin.User", ".Administrator.Name", ".Admin.Email", ".Administrator.Mail",
		".Admin.Password", ".Administrator.Password")
	formerCMS           = regexp.MustCompile(`(?m)^kit(_version)?:`)
	formerAdministrator = regexp.MustCompile(`(?m)^admin(_email|_password)?:(.*)\n?`)
)

// inTodaysWords changes the names that a definition, a finishing touch or the defaults had, and nothing else of them.
func inTodaysWords(text string) string {
	text = formerCMS.ReplaceAllString(formerKeys.Replace(text), "cms$1:")
	lines := "administrator:\n"
	for _, found := range formerAdministrator.FindAllStringSubmatch(text, -1) {
		lines += "  " + map[string]string{"": "name", "_email": "mail", "_password": "password"}[found[1]] + ":" + found[2] + "\n"
	}
	first := formerAdministrator.FindStringIndex(text)
	if first == nil {
		return text
	}
	return text[:first[0]] + lines + formerAdministrator.ReplaceAllString(text[first[0]:], "")
}
