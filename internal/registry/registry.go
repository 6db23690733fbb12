// Package registry is which sites there are: read by name and by host, edited in one place, written to the records first. So nobody
// sees what is not recorded, and nobody puts back what somebody else has changed meanwhile.
package registry

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"vessik/internal/core/site"
)

// ErrNoSite says that there is no site of a name.
var ErrNoSite = errors.New("there is no such site")

// Store is where sites are recorded.
type Store interface {
	SaveSite(ctx context.Context, s site.Site) error
	// Relocate is SaveSite for one that has other domains, ports or folders reserved than before.
	Relocate(ctx context.Context, s site.Site) error
	// Rename gives a site another name; an operation does so.
	Rename(ctx context.Context, operation, old string, s site.Site) error
	Drop(ctx context.Context, name string) error
}

// Registry is safe for concurrent use.
type Registry struct {
	store Store

	editing sync.Mutex // edits reach the records in the order in which they are made
	mu      sync.RWMutex
	sites   map[string]site.Site
	hosts   map[string]string // names by host
	parents map[string]string // names by the domain of a network by sub-domain
	changed chan struct{}     // closed and replaced at each change
	version uint64            // grows with each change
	changes map[string]uint64 // the version in which a name's site changed last, or went
}

// New returns one that knows some sites already.
func New(store Store, sites ...site.Site) *Registry {
	r := &Registry{store: store, sites: map[string]site.Site{}, changed: make(chan struct{}), version: 1, changes: map[string]uint64{}}
	for _, s := range sites {
		r.sites[s.Name] = s
	}
	r.index()
	return r
}

// index finds sites by host again; held by mu.
func (r *Registry) index() {
	r.hosts, r.parents = map[string]string{}, map[string]string{}
	for name, s := range r.sites {
		for _, forward := range s.Forwards {
			if _, own := r.hosts[forward.Domain]; !own {
				r.hosts[forward.Domain] = name
			}
		}
		if s.Network == site.NetworkDomains {
			r.parents[s.Domain] = name
		}
	}
	for name, s := range r.sites { // a site's own domain counts more than one that another had before
		for _, host := range s.Hosts() {
			r.hosts[host] = name
		}
	}
}

// All returns the sites by name.
func (r *Registry) All() []site.Site {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return slices.SortedFunc(maps.Values(r.sites), func(a, b site.Site) int { return cmp.Compare(a.Name, b.Name) })
}

// Site returns one.
func (r *Registry) Site(name string) (site.Site, bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	s, ok := r.sites[name]
	return s, ok
}

// ByHost finds the site that a host name belongs to at a time: as its own, of its network, or as one that it had before.
func (r *Registry) ByHost(host string, now time.Time) (site.Site, bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	if name, ok := r.hosts[host]; ok {
		s := r.sites[name]
		if slices.Contains(s.Hosts(), host) ||
			slices.ContainsFunc(s.Forwards, func(f site.Forward) bool { return f.Domain == host && now.Before(f.Until) }) {
			return s, true
		}
	}
	for parent := host; ; {
		_, rest, more := strings.Cut(parent, ".")
		if !more {
			return site.Site{}, false
		}
		if name, ok := r.parents[rest]; ok {
			return r.sites[name], true
		}
		parent = rest
	}
}

// Changed returns a channel that is closed at the next change.
func (r *Registry) Changed() <-chan struct{} {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.changed
}

// Announce tells whoever waits for a change; of these sites something has changed that is not recorded.
func (r *Registry) Announce(names ...string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.announce(names...)
}

// announce is held by mu.
func (r *Registry) announce(names ...string) {
	r.version++
	for _, name := range names {
		r.changes[name] = r.version
	}
	close(r.changed)
	r.changed = make(chan struct{})
}

// Since returns what has changed after a version: the sites by name, and the names that no site has any more. Version 0 is before all.
func (r *Registry) Since(version uint64) (changed []site.Site, gone []string, now uint64) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	for _, name := range slices.Sorted(maps.Keys(r.changes)) {
		if r.changes[name] <= version {
			continue
		}
		if s, known := r.sites[name]; known {
			changed = append(changed, s)
		} else {
			gone = append(gone, name)
		}
	}
	return changed, gone, r.version
}

// put makes a site known, held by editing; the zero value makes its name unknown.
func (r *Registry) put(name string, s site.Site) {
	r.mu.Lock()
	before := r.sites[name]
	if delete(r.sites, name); s.Name != "" {
		r.sites[s.Name] = s
	}
	if moved(before, s) {
		r.index()
	}
	r.announce(name, cmp.Or(s.Name, name)) // under the old name, and the new one
	r.mu.Unlock()
}

// moved tells whether a site is found or reserved elsewhere than before.
func moved(before, after site.Site) bool {
	return before.Name != after.Name || before.Folder != after.Folder || before.Port != after.Port || before.Network != after.Network ||
		before.Database != after.Database || before.Stack != after.Stack || !slices.Equal(before.Hosts(), after.Hosts()) ||
		!slices.Equal(before.Forwards, after.Forwards)
}

// Edit changes a site as it is now. edit sees it and changes what it is about, nothing else; its error changes nothing.
func (r *Registry) Edit(ctx context.Context, name string, edit func(*site.Site) error) error {
	r.editing.Lock()
	defer r.editing.Unlock()
	before, ok := r.Site(name)
	if !ok {
		return fmt.Errorf("%s: %w", name, ErrNoSite)
	}
	after := before
	if err := edit(&after); err != nil {
		return err
	}
	if reflect.DeepEqual(before, after) {
		return nil
	}
	save := r.store.SaveSite
	if moved(before, after) {
		save = r.store.Relocate
	}
	if err := save(ctx, after); err != nil {
		return err
	}
	r.put(name, after)
	return nil
}

// Move leads a site from one state to another, if that move is one that there is; see site.Move.
func (r *Registry) Move(ctx context.Context, name string, state site.State, reason string) error {
	return r.Edit(ctx, name, func(s *site.Site) error {
		if err := site.Move(s.State, state); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		s.State, s.Reason = state, reason
		return nil
	})
}

// WaitWhile returns when a site has left a state, or ctx ends.
func (r *Registry) WaitWhile(ctx context.Context, name string, state site.State) {
	for {
		changed := r.Changed()
		if s, ok := r.Site(name); !ok || s.State != state {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-changed:
		}
	}
}

// Add makes known what the records have reserved already.
func (r *Registry) Add(sites ...site.Site) {
	r.editing.Lock()
	defer r.editing.Unlock()
	for _, s := range sites {
		r.put(s.Name, s)
	}
}

// Presume shows a site in another state than is recorded: that of the time before the service ended is what counts after its next end;
// and where the records cannot be written, people are to see it all the same.
func (r *Registry) Presume(name string, state site.State, reason string) {
	r.editing.Lock()
	defer r.editing.Unlock()
	if s, ok := r.Site(name); ok {
		s.State, s.Reason = state, reason
		r.put(name, s)
	}
}

// Rename is Edit where edit gives a site another name; an operation does so.
func (r *Registry) Rename(ctx context.Context, operation, old string, edit func(*site.Site)) error {
	r.editing.Lock()
	defer r.editing.Unlock()
	next, ok := r.Site(old)
	if !ok {
		return fmt.Errorf("%s: %w", old, ErrNoSite)
	}
	edit(&next)
	if err := r.store.Rename(ctx, operation, old, next); err != nil {
		return err
	}
	r.put(old, next)
	return nil
}

// Drop removes a site, and what is recorded of it.
func (r *Registry) Drop(ctx context.Context, name string) error {
	r.editing.Lock()
	defer r.editing.Unlock()
	if err := r.store.Drop(ctx, name); err != nil {
		return err
	}
	r.put(name, site.Site{})
	return nil
}
