package engine

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"slices"
)

// usage is what a home that shares a store says of it: a file in the store, which is replaced whole.
type usage struct {
	Home    string   `json:"home"`
	Engines []string `json:"engines"`
}

// Uses notes which engines a home's sites and records are on, so that no other home that shares the store drops them.
func (s Store) Uses(home string, ids []string) error {
	sum := sha256.Sum256([]byte(home))
	file := filepath.Join(s.Dir, ".homes", hex.EncodeToString(sum[:6])+".json")
	text, err := json.Marshal(usage{home, ids})
	if err != nil {
		return err
	}
	s.UsedElsewhere("", home) // forgets homes that are gone
	next := file + ".next"
	return errors.Join(os.MkdirAll(filepath.Dir(file), 0o755), os.WriteFile(next, text, 0o644), os.Rename(next, file))
}

// UsedElsewhere lists other homes that an engine is used in. Homes that are gone count no longer.
func (s Store) UsedElsewhere(id, home string) (homes []string) {
	files, _ := filepath.Glob(filepath.Join(s.Dir, ".homes", "*.json"))
	for _, file := range files {
		var noted usage
		text, err := os.ReadFile(file)
		if err == nil {
			err = json.Unmarshal(text, &noted)
		}
		if err != nil || noted.Home == home {
			continue
		}
		if _, err := os.Stat(filepath.Join(noted.Home, "home.json")); errors.Is(err, os.ErrNotExist) {
			os.Remove(file)
			continue
		}
		if slices.Contains(noted.Engines, id) {
			homes = append(homes, noted.Home)
		}
	}
	return homes
}
