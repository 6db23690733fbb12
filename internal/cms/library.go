package cms

import (
	"log/slog"
	"maps"
	"sync"

	"vessik/internal/core/site"
)

// Library is the CMS definitions that are known at this moment: Vessik's own, and the user's, which are read again when one of
// them has changed.
type Library struct {
	Dir string // of the user's
	Log *slog.Logger

	mu          sync.Mutex
	definitions Definitions
	faults      map[string]error // of the user's, by folder
	state       string
}

// Definitions are all that are known now.
func (l *Library) Definitions() Definitions {
	l.mu.Lock()
	defer l.mu.Unlock()
	if state := State(l.Dir); l.definitions == nil || state != l.state {
		l.definitions, l.faults = All(l.Dir)
		l.state = state
		for folder, fault := range l.faults {
			l.Log.Warn("a definition is left out", "folder", folder, "reason", fault)
		}
	}
	return l.definitions
}

// Faults are what is wrong with the user's definitions, by folder.
func (l *Library) Faults() map[string]error {
	l.Definitions()
	l.mu.Lock()
	defer l.mu.Unlock()
	return maps.Clone(l.faults)
}

// Of is the definition of a site; one that knows nothing where the user took it away.
func (l *Library) Of(s site.Site) *Definition {
	if k := l.Definitions()[s.CMS.Name]; k != nil {
		return k
	}
	return &Definition{Name: s.CMS.Name, Title: s.CMS.Name}
}
