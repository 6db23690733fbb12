package cms

import (
	"path/filepath"
	"strings"

	"vessik/internal/ownfile"
)

// Helpers are what a CMS's definition says of local helpers: PHP that is loaded for chosen sites from outside their folders.
type Helpers struct {
	Load   string   `yaml:"load"` // PHP that has $file be loaded as a plugin is; without it, it is loaded before the CMS
	Brings []Helper `yaml:"brings"`
}

// Helper is one local helper. One whose name ends in .settings is loaded before the CMS in any case.
type Helper struct {
	Name  string `yaml:"name"`
	About string `yaml:"about"`
	PHP   string `yaml:"php"`
	Path  string `yaml:"-"` // of the user's own
}

// OwnHelpers reads the user's own from a folder: NAME.php, whose first lines say in a comment what it is for.
func OwnHelpers(dir string) []Helper {
	own := []Helper{}
	entries, _ := ownfile.List(dir)
	for _, entry := range entries {
		name, isPHP := strings.CutSuffix(entry.Name(), ".php")
		text, err := ownfile.Read(filepath.Join(dir, entry.Name()))
		if !isPHP || err != nil {
			continue
		}
		own = append(own, Helper{Name: name, About: aboutOf(string(text)), PHP: string(text), Path: filepath.Join(dir, entry.Name())})
	}
	return own
}

// aboutOf is the first text in the comment that a PHP file begins with.
func aboutOf(text string) string {
	for line := range strings.Lines(strings.TrimPrefix(text, "<?php")) {
		line = strings.TrimSpace(line)
		if line != "" && !strings.ContainsRune("/*#", rune(line[0])) {
			return ""
		}
		if about := strings.Trim(line, "/*# \t"); about != "" {
			return strings.TrimPrefix(about, "Plugin Name: ")
		}
	}
	return ""
}
