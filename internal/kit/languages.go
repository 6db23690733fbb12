package kit

import (
	"os"
	"path/filepath"
	"slices"

	"vessik/internal/core/site"
)

// LanguagePack is the row of the engine catalogue that holds a CMS's languages; empty where every release has them.
func (k *Kit) LanguagePack(version string) string {
	if k.Languages.Pack == "" {
		return ""
	}
	return "languages-" + site.Kit{Name: k.Name, Version: version}.Release()
}

// LanguagesIn lists the languages of a folder of language files, the usual one first.
func (k *Kit) LanguagesIn(dir string) []string {
	found := []string{}
	entries, _ := os.ReadDir(dir)
	for _, entry := range entries {
		if match := k.submatch(k.Languages.Files, entry.Name()); match != nil && match[1] != k.Languages.Usual {
			found = append(found, match[1])
		}
	}
	slices.Sort(found)
	return append([]string{k.Languages.Usual}, slices.Compact(found)...)
}

// LayLanguage copies one language's files from its pack into a site's folder.
func (k *Kit) LayLanguage(pack, folder, language string) error {
	from, to := filepath.Join(pack, k.Languages.Pack), filepath.Join(folder, k.Languages.Folder)
	entries, err := os.ReadDir(from)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(to, 0o755); err != nil {
		return err
	}
	for _, entry := range entries {
		match := k.submatch(k.Languages.Files, entry.Name())
		if match == nil || match[1] != language {
			continue
		}
		if _, err := os.Stat(filepath.Join(to, entry.Name())); err == nil {
			continue
		}
		if err := copyFile(filepath.Join(from, entry.Name()), filepath.Join(to, entry.Name())); err != nil {
			return err
		}
	}
	return nil
}

// localised is the SQL that tells the CMS its language and time zone, where they were chosen.
func (k *Kit) localised(facts Facts) []string {
	statements := []string{}
	if facts.Language != "" {
		statements = append(statements, k.Languages.Set...)
	}
	if facts.TimeZone != "" {
		statements = append(statements, k.TimeZone.Set...)
	}
	return statements
}
