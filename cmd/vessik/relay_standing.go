package main

import (
	"context"
	"crypto/rand"
	"fmt"
	"net/http"
	"os"
	"os/user"
	"strconv"
	"sync/atomic"
	"syscall"
	"time"

	"vessik/client"
	"vessik/copies"
	"vessik/internal/home"
	"vessik/internal/relay"
)

// standingRoom is where a relay keeps copies: in a service beside it, with a home below the relay's.
type standingRoom struct {
	limits copies.Limits
	place  home.Home
	child  *child
	ready  atomic.Pointer[copies.Room]
}

// besideTheRelay starts the service for the copies that a relay keeps. It becomes whom the relay's folder belongs to.
func besideTheRelay(relayHome home.Home, limits copies.Limits) (*standingRoom, error) {
	place, err := home.New(relayHome.Path("service"), relayHome.Engines)
	if err != nil {
		return nil, err
	}
	for until := time.Now().Add(time.Minute); place.InUse() && time.Now().Before(until); { // of a relay that was ended a moment ago
		time.Sleep(100 * time.Millisecond)
	}
	flags, err := portsOfItsOwn(place)
	if err != nil {
		return nil, err
	}
	if info, err := os.Stat(relayHome.Dir); err == nil && os.Geteuid() == 0 {
		owner, err := user.LookupId(strconv.Itoa(int(info.Sys().(*syscall.Stat_t).Uid)))
		if err != nil {
			return nil, err
		}
		flags = append(flags, "-account", owner.Username)
	}
	s := &standingRoom{limits: limits, place: place}
	s.child, err = startProgram(place, os.Stderr, "serve", flags...)
	return s, err
}

// answer has a relay hand on what accounts ask of their copies.
func (s *standingRoom) answer(r *relay.Relay) {
	r.Own = rand.Text()
	r.Standing = func(account string) http.Handler {
		if room := s.ready.Load(); room != nil {
			return room.For(account)
		}
		return http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Retry-After", "30")
			http.Error(w, "the service for the copies is starting; try again in a minute", http.StatusServiceUnavailable)
		})
	}
}

// keep has the copies kept as soon as the service is there, until the context ends.
func (s *standingRoom) keep(ctx context.Context, r *relay.Relay) error {
	c := &call{home: &s.place.Dir}
	if _, err := c.settledStatus(ctx, 15*time.Minute); err != nil {
		return err
	}
	service, err := client.ForHome(s.place.Dir)
	if err != nil {
		return err
	}
	address := "https://" + r.Domain
	if r.Port != 443 {
		address += fmt.Sprintf(":%d", r.Port)
	}
	joined, err := service.JoinRelay(ctx, client.JoinRelay{URL: address, Token: r.Own})
	if err != nil {
		return fmt.Errorf("reach this relay at its own address: %w", err)
	}
	room, err := copies.Open(s.place.Path("copies"), service, r.Accounts, r.Log)
	if err != nil {
		return err
	}
	room.Limits, room.Relay = s.limits, joined.Host
	room.Takes = func(of client.Site) (int64, error) { return s.place.SiteBytes(of.Name, of.Folder, of.Database.Name) }
	s.ready.Store(room)
	room.LookAfter(ctx)
	return nil
}
