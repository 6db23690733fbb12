package change

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"vessik/internal/cms"
	"vessik/internal/core/outgoing"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/engine"
	"vessik/internal/safefile"
)

// check has the engines themselves read the configuration that a target leads to. Nothing is changed.
func (c *Changer) check(ctx context.Context, s site.Site, target plan.Target) error {
	s.Stack, s.Settings = target.Stack, target.Settings
	e, err := c.Machine.Store.Find(s.Stack.PHP)
	if err != nil {
		return err
	}
	if problems := c.CheckSettings(ctx, s, s.Settings); len(problems) > 0 {
		return problems
	}
	if err := engine.CheckPHP(ctx, c.Machine.Supervisor, e, s, c.Machine.PHPPlace(s)); err != nil {
		return err
	}
	web, err := c.Machine.Web(s.Stack.Web)
	if err != nil {
		return err
	}
	return web.Check(ctx, s.Name, c.Machine.VirtualHost(s))
}

// switchTo puts a site on a target: PHP takes the socket over from its predecessor, and the web server its port.
func (c *Changer) switchTo(ctx context.Context, s site.Site, target plan.Target) error {
	s, _ = c.Machine.Registry.Site(s.Name)
	before, next := s, s
	redefine := func(s *site.Site) error {
		s.Stack, s.Settings = target.Stack, target.Settings
		if target.Domain != "" {
			s.Domain, s.Domains, s.Forwards, s.HTTPS = target.Domain, target.Domains, target.Forwards, target.HTTPS
		}
		return nil
	}
	redefine(&next)
	if err := c.Machine.LayPlaces(next); err != nil {
		return err
	}
	if s.State != site.Running && s.State != site.Failed {
		return c.Machine.Registry.Edit(ctx, s.Name, redefine)
	}
	e, err := c.Machine.Store.Find(next.Stack.PHP)
	if err != nil {
		return err
	}
	if _, err := c.Machine.Database(ctx, next.Stack.Database); err != nil {
		return err
	}
	if master := c.Machine.Master(s.Name); master != nil && s.State == site.Running {
		err = master.Change(ctx, e, next)
	} else {
		c.Machine.StopPHP(s)
		err = c.Machine.StartPHP(ctx, next)
	}
	if err != nil {
		return err
	}
	if err := c.Machine.Registry.Edit(ctx, s.Name, redefine); err != nil {
		return err
	}
	if before.Stack.Web != next.Stack.Web {
		if old, err := c.Machine.Web(before.Stack.Web); err == nil {
			old.Apply(ctx, map[string]*engine.VirtualHost{s.Name: nil}, false)
		}
	}
	return c.Machine.Publish(ctx, []string{s.Name})[s.Name]
}

// CheckSettings judges settings by what the site's PHP knows.
func (c *Changer) CheckSettings(ctx context.Context, s site.Site, settings site.Settings) site.Problems {
	var directives, extensions []string
	if e, err := c.Machine.Store.Find(s.Stack.PHP); err == nil {
		directives, _ = c.Directives(ctx, e)
		extensions, _ = engine.Switchable(e)
	}
	problems := site.CheckSettings(s.Name, settings, directives, extensions, c.Machine.Home.Dir)
	for _, entry := range settings.Reach {
		if e, err := outgoing.Parse(entry); err == nil && e.Own() != 0 && c.Machine.Kept(e.Own()) {
			problems = append(problems, site.Problem{Site: s.Name, Field: "outgoing-allow", Message: fmt.Sprintf("port %d of this machine is "+
				"Vessik's own or another site's, and is opened to no site", e.Own()), Remedy: "leave it out; another site is reached by its domain"})
		}
	}
	known := c.Machine.Helpers(s)
	for _, name := range settings.Helpers {
		is := func(h cms.Helper) bool { return h.Name == name }
		if !slices.Contains(s.Settings.Helpers, name) && !slices.ContainsFunc(known, is) {
			problems = append(problems, site.Problem{Site: s.Name, Field: "helpers", Message: "there is no helper " + name,
				Remedy: "write it as " + filepath.Join(c.Machine.HelpersFolder(), name+".php") + ", or choose one of: vessik helpers " + s.Name})
		}
	}
	for _, entry := range settings.Allow {
		dir, place := site.SharedOf(entry).Folder, site.SharedOf(entry).Place
		if place != "" && !c.Machine.Abilities.Namespaces {
			problems = append(problems, site.Problem{Site: s.Name, Field: "allow", Message: "this machine gives sites no cells of their own, " +
				"in which a folder could stand at another place", Remedy: "give the folder without a place, and link to it"})
		}
		if place != "" && !slices.Contains(s.Settings.Allow, entry) && !safefile.IsVacant(s.Folder, place) {
			problems = append(problems, site.Problem{Site: s.Name, Field: "allow", Message: "there is something at " + place + " already",
				Remedy: "move it away, or choose another place"})
		}
		if really, err := filepath.EvalSymlinks(dir); place != "" && err == nil && really != dir {
			problems = append(problems, site.Problem{Site: s.Name, Field: "allow", Message: dir + " leads over a link, which may lead elsewhere " +
				"another day", Remedy: "name the folder itself: " + really + "=" + place})
		}
		if info, err := os.Stat(dir); err != nil || !info.IsDir() {
			problems = append(problems, site.Problem{Site: s.Name, Field: "allow",
				Message: dir + " is not a folder that the service's account can reach", Remedy: "make it, or let that account enter it"})
		}
	}
	if settings.Xdebug > 0 {
		if e, err := c.Machine.Store.Find(s.Stack.PHP); err == nil && !engine.HasXdebug(e) {
			problems = append(problems, site.Problem{Site: s.Name, Field: "xdebug", Message: e.ID + " brings no Xdebug",
				Remedy: "leave it out, or fetch that engine again"})
		}
	}
	if settings.Processor != 0 && !c.Machine.SharesProcessor() {
		problems = append(problems, site.Problem{Site: s.Name, Field: "processor",
			Message: "this machine lets the service make no control groups (cgroup v2) with the processor's controller",
			Remedy:  "start the service as root or as a systemd unit with Delegate=yes, or leave it out"})
	}
	return problems
}

// Directives are the names that a PHP knows, as it tells them itself.
func (c *Changer) Directives(ctx context.Context, e *engine.Engine) ([]string, error) {
	key := e.ID + " " + e.Version
	c.knownMu.Lock()
	defer c.knownMu.Unlock()
	if names := c.known[key]; names != nil {
		return names, nil
	}
	if c.known == nil {
		c.known = map[string][]string{}
	}
	names, err := engine.Directives(ctx, e, c.Machine.Home.Path("tmp"))
	if err == nil {
		c.known[key] = names
	}
	return names, err
}
