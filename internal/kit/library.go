package kit

import (
	"log/slog"
	"maps"
	"sync"

	"vessik/internal/core/site"
)

// Library is the kits that are known at this moment: Vessik's own, and the user's, which are read again when one of them has changed.
type Library struct {
	Dir string // of the user's
	Log *slog.Logger

	mu     sync.Mutex
	kits   Kits
	faults map[string]error // of the user's, by folder
	state  string
}

// Kits are all that are known now.
func (l *Library) Kits() Kits {
	l.mu.Lock()
	defer l.mu.Unlock()
	if state := State(l.Dir); l.kits == nil || state != l.state {
		l.kits, l.faults = All(l.Dir)
		l.state = state
		for folder, fault := range l.faults {
			l.Log.Warn("a kit is left out", "folder", folder, "reason", fault)
		}
	}
	return l.kits
}

// Faults are what is wrong with the user's kits, by folder.
func (l *Library) Faults() map[string]error {
	l.Kits()
	l.mu.Lock()
	defer l.mu.Unlock()
	return maps.Clone(l.faults)
}

// Of is the kit of a site; one that knows nothing where the user took it away.
func (l *Library) Of(s site.Site) *Kit {
	if k := l.Kits()[s.Kit.Name]; k != nil {
		return k
	}
	return &Kit{Name: s.Kit.Name, Title: s.Kit.Name}
}
