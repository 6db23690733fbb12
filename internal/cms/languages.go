package cms

import (
	"path/filepath"
	"slices"

	"vessik/internal/core/site"
	"vessik/internal/ownfile"

	"vessik/internal/safefile"
)

// LanguagePack is the row of the engine catalogue that holds a CMS's languages; empty where every release has them.
func (k *Definition) LanguagePack(version string) string {
	if k.Languages.Pack == "" {
		return ""
	}
	return "languages-" + site.CMS{Name: k.Name, Version: version}.Release()
}

// LanguagesIn lists the languages of a folder of language files, the usual one first.
func (k *Definition) LanguagesIn(dir string) []string {
	found := []string{}
	entries, _ := ownfile.List(dir)
	for _, entry := range entries {
		if match := k.submatch(k.Languages.Files, entry.Name()); match != nil && match[1] != k.Languages.Usual {
			found = append(found, match[1])
		}
	}
	slices.Sort(found)
	return append([]string{k.Languages.Usual}, slices.Compact(found)...)
}

// LayLanguage copies one language's files from its pack into a site's folder.
func (k *Definition) LayLanguage(pack, folder, language string) error {
	from := filepath.Join(pack, k.Languages.Pack)
	entries, err := ownfile.List(from)
	if err != nil {
		return err
	}
	for _, entry := range entries {
		match := k.submatch(k.Languages.Files, entry.Name())
		if match == nil || match[1] != language {
			continue
		}
		name := filepath.Join(k.Languages.Folder, entry.Name())
		if there, err := safefile.Open(folder, name); err == nil {
			there.Close()
			continue
		}
		text, err := ownfile.Read(filepath.Join(from, entry.Name()))
		if err != nil {
			return err
		}
		if err := safefile.WriteFile(folder, name, text, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// localised is the SQL that tells the CMS its language and time zone, where they were chosen.
func (k *Definition) localised(facts Facts) []string {
	statements := []string{}
	if facts.Language != "" {
		statements = append(statements, k.Languages.Set...)
	}
	if facts.TimeZone != "" {
		statements = append(statements, k.TimeZone.Set...)
	}
	return statements
}
