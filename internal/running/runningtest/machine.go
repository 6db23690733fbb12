// Package runningtest makes machines for tests that need no engines.
package runningtest

import (
	"context"
	"log/slog"
	"testing"

	"github.com/stretchr/testify/require"

	"vessik/internal/authority"
	"vessik/internal/background"
	"vessik/internal/cms"
	"vessik/internal/core/site"
	"vessik/internal/engine"
	"vessik/internal/home"
	"vessik/internal/registry"
	"vessik/internal/running"
)

// Nothing records sites: it is for registries whose sites are not edited.
type Nothing struct{ registry.Store }

// Machine is one with stopped sites and without engines.
func Machine(t *testing.T, sites ...site.Site) *running.Machine {
	t.Helper()
	for i := range sites {
		sites[i].State = site.Stopped
	}
	m := &running.Machine{Home: home.Home{Dir: t.TempDir()}, Store: engine.Store{Dir: t.TempDir()},
		Registry: registry.New(Nothing{}, sites...),
		Work:     background.New(context.Background()), Log: slog.New(slog.DiscardHandler)}
	var err error
	m.Book, err = home.NewBook(m.Home, home.Settings{GatewayPort: 20080, HTTPSPort: 20443})
	require.NoError(t, err)
	m.Authority, err = authority.Open(m.Home.Path("authority"))
	require.NoError(t, err)
	m.CMS = &cms.Library{Dir: m.Home.Path("cms"), Log: m.Log}
	m.Open()
	return m
}
