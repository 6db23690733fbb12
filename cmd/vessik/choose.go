package main

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"vessik/client"
	"vessik/internal/core/site"
)

// choice is what sites are chosen by, where they are not named.
type choice struct {
	group, state, engine string
	failed               bool
	failing              []string // by their newest reports
}

// choosing gives a command the flags by which sites are chosen.
func (c *call) choosing() *choice {
	w := &choice{}
	c.flags.StringVar(&w.group, "group", "", "only sites of this group")
	c.flags.StringVar(&w.state, "state", "", "only sites in this state, such as running or stopped")
	c.flags.StringVar(&w.engine, "engine", "", "only sites on an engine, such as php-8.4, nginx or mariadb-10.5")
	c.flags.BoolVar(&w.failed, "failed", false, "only sites that failed, or of which a check failed")
	return w
}

// given says that sites are chosen by something.
func (w *choice) given() bool { return w.group != "" || w.state != "" || w.engine != "" || w.failed }

func (w *choice) fits(s client.Site) bool {
	on := []string{s.Stack.PHP.Engine, s.Stack.Web.Engine, s.Stack.Database.Engine}
	return (w.group == "" || strings.EqualFold(s.Group, w.group)) && (w.state == "" || string(s.State) == w.state) &&
		(w.engine == "" || slices.ContainsFunc(on, func(id string) bool { return id == w.engine || strings.HasPrefix(id, w.engine+"-") })) &&
		(!w.failed || s.State == site.Failed || s.State == site.Running && slices.Contains(w.failing, s.Name))
}

// sites are those that fit, of all.
func (w *choice) sites(ctx context.Context, service *client.Client) (fitting, all []client.Site, err error) {
	if all, err = service.Sites(ctx, false); err != nil {
		return nil, nil, err
	}
	if w.failed {
		report, err := service.Reports(ctx)
		if err != nil {
			return nil, nil, err
		}
		for _, r := range report.Sites {
			if r.Passed != nil && !*r.Passed {
				w.failing = append(w.failing, r.Site)
			}
		}
	}
	return slices.DeleteFunc(slices.Clone(all), func(s client.Site) bool { return !w.fits(s) }), all, nil
}

// judge refuses names beside a choice, and neither where something has to be said.
func (w *choice) judge(names []string, needed bool) error {
	switch {
	case w.given() && len(names) > 0:
		return usageError{"name sites, or choose them by -group, -state, -engine and -failed"}
	case needed && !w.given() && len(names) == 0:
		return usageError{"name sites, or choose them by -group, -state, -engine or -failed"}
	}
	return nil
}

// names are those that were given, or those of the sites that fit.
func (w *choice) names(ctx context.Context, service *client.Client, given []string) ([]string, error) {
	if !w.given() {
		return given, nil
	}
	fitting, all, err := w.sites(ctx, service)
	if err != nil {
		return nil, err
	}
	if len(fitting) == 0 {
		return nil, usageError{fmt.Sprintf("none of %d sites fits; nothing was done", len(all))}
	}
	names := make([]string, len(fitting))
	for i, s := range fitting {
		names[i] = s.Name
	}
	return names, nil
}
