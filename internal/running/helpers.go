package running

import (
	"slices"

	"vessik/internal/cms"
	"vessik/internal/core/site"
	"vessik/internal/engine"
)

// HelpersFolder is where the user's own local helpers are.
func (m *Machine) HelpersFolder() string { return m.Home.Path("helpers") }

// Helpers are the local helpers that a site may have: the user's own, and its CMS's of other names.
func (m *Machine) Helpers(s site.Site) []cms.Helper {
	all := cms.OwnHelpers(m.HelpersFolder())
	for _, brought := range m.CMS.Of(s).Helpers.Brings {
		if !slices.ContainsFunc(all, func(own cms.Helper) bool { return own.Name == brought.Name }) {
			brought.PHP = "<?php\n" + brought.PHP
			all = append(all, brought)
		}
	}
	return all
}

// helper is the text of one.
func (m *Machine) helper(s site.Site) func(name string) (text string, ok bool) {
	return func(name string) (text string, ok bool) {
		for _, each := range m.Helpers(s) {
			if each.Name == name {
				return each.PHP, true
			}
		}
		return "", false
	}
}

// LayHelpers has a site's PHP see its helpers as they are now.
func (m *Machine) LayHelpers(s site.Site) error {
	if len(s.Settings.Helpers) == 0 {
		return nil
	}
	_, err := engine.LayHelpers(m.PHPPlace(s), s.Settings.Helpers)
	return err
}

// ForgetHelpers has it see no others. Nothing may change the site meanwhile: what a change brings is laid before it is the site's.
func (m *Machine) ForgetHelpers(s site.Site) { engine.ForgetHelpers(m.PHPPlace(s), s.Settings.Helpers) }
