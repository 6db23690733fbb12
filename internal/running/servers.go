// Package running is what runs for sites and is shared by them.
package running

import (
	"context"
	"sync"
)

// Servers are shared servers by engine, such as database servers: each is started at its first use, kept while somebody has it on lease,
// and stopped once nobody needs it. Starting or stopping one keeps nobody from another, nor from asking which ones run.
type Servers[S interface {
	comparable
	Stop()
}] struct {
	start   func(ctx context.Context, id string) (S, error)
	mu      sync.Mutex // held for moments only
	servers map[string]*server[S]
}

type server[S comparable] struct {
	turn    sync.Mutex // held while it starts or stops
	running S          // the zero value for none; guarded by Servers.mu
	leases  int        // guarded by Servers.mu
}

// New returns servers that are started by a function.
func New[S interface {
	comparable
	Stop()
}](start func(ctx context.Context, id string) (S, error)) *Servers[S] {
	return &Servers[S]{start: start, servers: map[string]*server[S]{}}
}

func (s *Servers[S]) of(id string) *server[S] {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.servers[id] == nil {
		s.servers[id] = &server[S]{}
	}
	return s.servers[id]
}

func (s *Servers[S]) set(one *server[S], running S) {
	s.mu.Lock()
	defer s.mu.Unlock()
	one.running = running
}

// Use returns a running server, and starts it where there is none. It may be stopped as soon as nobody needs it: see Lease.
func (s *Servers[S]) Use(ctx context.Context, id string) (running S, err error) {
	var none S
	if running = s.Running(id); running != none {
		return running, nil
	}
	one := s.of(id)
	one.turn.Lock()
	defer one.turn.Unlock()
	if running = s.Running(id); running != none { // started meanwhile
		return running, nil
	}
	if running, err = s.start(ctx, id); err != nil {
		return none, err
	}
	s.set(one, running)
	return running, nil
}

// Lease is Use that keeps the server from being stopped for want of users until release is called, which may be done once.
func (s *Servers[S]) Lease(ctx context.Context, id string) (running S, release func(), err error) {
	one := s.of(id)
	count := func(by int) {
		s.mu.Lock()
		defer s.mu.Unlock()
		one.leases += by
	}
	count(+1)
	if running, err = s.Use(ctx, id); err != nil {
		count(-1)
		return running, func() {}, err
	}
	return running, sync.OnceFunc(func() { count(-1) }), nil
}

// Running returns a server that runs at this moment; the zero value where none does. It waits for nothing.
func (s *Servers[S]) Running(id string) (running S) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if one := s.servers[id]; one != nil {
		return one.running
	}
	return running
}

// All returns those that run at this moment, by engine.
func (s *Servers[S]) All() map[string]S {
	s.mu.Lock()
	defer s.mu.Unlock()
	var none S
	all := map[string]S{}
	for id, one := range s.servers {
		if one.running != none {
			all[id] = one.running
		}
	}
	return all
}

// Stop stops a server, whoever needs it, and tells whether it ran. Its next use starts it again.
func (s *Servers[S]) Stop(id string) (ran bool) {
	one := s.of(id)
	one.turn.Lock()
	defer one.turn.Unlock()
	running, ran := s.take(one, true)
	if ran {
		running.Stop()
	}
	return ran
}

// take has nobody use what runs from now on, where it is to be so and it runs; held by the server's turn.
func (s *Servers[S]) take(one *server[S], so bool) (running S, ran bool) {
	var none S
	s.mu.Lock()
	defer s.mu.Unlock()
	if !so || one.running == none {
		return none, false
	}
	running, one.running = one.running, none
	return running, true
}

// Unused takes those away that nobody has on lease and that needed does not name: whoever uses one from now on starts it again, once stop
// has stopped it, which must be called. One that is just starting is left alone.
func (s *Servers[S]) Unused(needed func(id string) bool) (ids []string, stop func()) {
	var stops []func()
	for id := range s.All() {
		one := s.of(id)
		if !one.turn.TryLock() {
			continue
		}
		s.mu.Lock()
		leased := one.leases > 0
		s.mu.Unlock()
		running, ran := s.take(one, !leased && !needed(id))
		if !ran {
			one.turn.Unlock()
			continue
		}
		ids = append(ids, id)
		stops = append(stops, func() {
			defer one.turn.Unlock()
			running.Stop()
		})
	}
	return ids, func() {
		for _, stop := range stops {
			stop()
		}
	}
}

// Close stops all, side by side.
func (s *Servers[S]) Close() {
	var group sync.WaitGroup
	for id := range s.All() {
		group.Go(func() { s.Stop(id) })
	}
	group.Wait()
}
