package home

import (
	"maps"
	"sync"

	"vessik/internal/core/site"
	"vessik/internal/seal"
)

// Book keeps a home's settings while a service runs: what is changed is written before it is seen.
type Book struct {
	home Home

	mu       sync.Mutex // held for moments only
	settings Settings
	https    int // the gateway's port for https, which is written once a site has it
}

// NewBook begins with settings that were read, and writes them.
func NewBook(h Home, s Settings) (*Book, error) {
	return &Book{home: h, settings: s.clone(), https: s.HTTPSPort}, h.WriteSettings(s)
}

// Settings are a copy of what holds now.
func (b *Book) Settings() Settings {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.settings.clone()
}

// Gateway is where the gateway answers, Port one of Settings().Ports; they are asked for with every site that is shown.
func (b *Book) Gateway() site.Gateway {
	b.mu.Lock()
	defer b.mu.Unlock()
	return site.Gateway{HTTP: b.settings.GatewayPort, HTTPS: b.https}
}

// OpenHTTPS tells on which port the gateway answers over https.
func (b *Book) OpenHTTPS(port int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.https = port
}

// KeepHTTPS keeps that port from now on: it stands in a site's addresses.
func (b *Book) KeepHTTPS() error {
	if b.Settings().HTTPSPort != 0 {
		return nil
	}
	return b.Edit(func(s *Settings) error { s.HTTPSPort = b.https; return nil })
}

func (b *Book) Port(engine string) int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.settings.Ports[engine]
}

// Edit changes the settings; its error, and one of writing them, changes nothing.
func (b *Book) Edit(edit func(*Settings) error) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	next := b.settings.clone()
	if err := edit(&next); err != nil {
		return err
	}
	if err := b.home.WriteSettings(next); err != nil {
		return err
	}
	b.settings = next
	return nil
}

// Key opens the home's secrets.
func (b *Book) Key() (seal.Key, error) { return seal.Read(b.home.KeyFile()) }

// clone shares nothing with the original, and has all maps.
func (s Settings) clone() Settings {
	s.Ports, s.Passwords, s.OwnDefiners = copied(s.Ports), copied(s.Passwords), copied(s.OwnDefiners)
	variables := map[string]map[string]string{}
	for id, values := range s.Variables {
		variables[id] = maps.Clone(values)
	}
	s.Variables = variables
	return s
}

func copied[V any](of map[string]V) map[string]V {
	next := map[string]V{}
	maps.Copy(next, of)
	return next
}
