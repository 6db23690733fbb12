package running

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"vessik/internal/cms"
	"vessik/internal/core/render"
	"vessik/internal/core/site"
	"vessik/internal/engine"
	"vessik/internal/records"
)

// Web returns the web server of an engine.
func (m *Machine) Web(id string) (*engine.WebServer, error) { return m.webs.Use(m.Work.Context(), id) }

func (m *Machine) openWeb(_ context.Context, id string) (*engine.WebServer, error) {
	e, err := m.Store.Find(id)
	if err != nil {
		return nil, err
	}
	w, err := engine.NewWebServer(m.Supervisor, m.Bell, e, m.Home.Path("run", id))
	if err != nil {
		return nil, err
	}
	w.GivenUp = m.Failed
	return w, nil
}

// VirtualHost is a site's, for the web server of its stack.
func (m *Machine) VirtualHost(s site.Site) engine.VirtualHost {
	php := render.PHP{Site: s}
	values := map[string]string{}
	for _, d := range php.Directives() {
		values[d.Name] = d.Value
	}
	host := render.Host{InCell: m.Supervisor.Abilities().Namespaces, Site: s, Socket: m.Socket(s), Logs: m.Home.SiteLogs(s.Name),
		BaseURL: strings.TrimSuffix(s.URL(m.Gateway()), "/"), PublicPort: m.Gateway().Port(s.HTTPS),
		UploadLimit: uploadLimit(values), ReadTimeout: cmp.Or(php.LongestRequest(), 3600) + 10,
		FrontController: m.CMS.Of(s).Web.Front, NoPHP: m.CMS.Of(s).Web.NoPHP, Private: m.CMS.Of(s).Web.Private}
	if s.Network == site.NetworkFolders {
		host.Shared, host.Directories = m.CMS.Of(s).Network.Shared, m.CMS.Of(s).Network.Directories
	}
	host.Fallback = !slices.ContainsFunc(m.CMS.Of(s).Layout.Files, func(f cms.Text) bool { return f.Path == ".htaccess" })
	text := host.Nginx()
	if strings.HasPrefix(s.Stack.Web, "apache") {
		text = host.Apache()
	}
	return engine.VirtualHost{Text: text, Port: s.Port, Folders: strings.Join(append([]string{s.Folder}, s.Settings.Open()...), "\n"),
		Bound: boundOf(s),
		PHP:   filepath.Dir(m.Socket(s)), Logs: m.Home.SiteLogs(s.Name), Limits: m.limits(s)}
}

// boundOf are a site's further folders that have a place in its own, as its web server is told of them.
func boundOf(s site.Site) string {
	return strings.Join(slices.DeleteFunc(slices.Clone(s.Settings.Allow), func(entry string) bool {
		return site.SharedOf(entry).Place ==
			""
	}), "\n")
}

// Serves tells whether a site has a web server.
func (m *Machine) Serves(s site.Site) bool {
	web := m.webs.Running(s.Stack.Web)
	return web != nil && web.Serves(s.Name)
}

// Publish gives sites their web servers, and opens their routes. A site whose port
// somebody took while it was stopped gets another one, unless that one was asked for. It returns the sites that could not be
// published, and why.
func (m *Machine) Publish(ctx context.Context, names []string) map[string]error {
	m.LetGo(names...)
	failed := m.publishOnce(ctx, names)
	again := []string{}
	for name, err := range failed {
		if errors.Is(err, engine.ErrPortTaken) && m.otherPort(ctx, name, err) == nil {
			again = append(again, name)
			delete(failed, name)
		}
	}
	if len(again) > 0 {
		maps.Copy(failed, m.publishOnce(ctx, again))
	}
	for _, name := range names {
		switch err := failed[name]; {
		case errors.Is(err, engine.ErrPortTaken):
			failed[name] = fmt.Errorf("%w; it was asked for by number: end that program, then start the site again", err)
		case err == nil:
			if err := m.Registry.Move(ctx, name, site.Running, ""); err != nil {
				failed[name] = err
			}
		}
	}
	return failed
}

// otherPort gives a site a free port in place of one that is taken, and says so.
func (m *Machine) otherPort(ctx context.Context, name string, reason error) error {
	s, ok := m.Registry.Site(name)
	if !ok || s.PortPinned {
		return reason
	}
	taken := s.Port
	for range 3 { // a new site may choose the same one at this moment
		now := m.FreePort()
		if now == 0 {
			return reason
		}
		m.Log.Warn("another port", "site", name, "taken", taken, "now", now, "reason", reason)
		err := m.Registry.Edit(ctx, name, func(s *site.Site) error {
			s.Port = now
			s.Notice = fmt.Sprintf("port %d was taken while the site was stopped (%s); its own port is %d now", taken,
				strings.TrimSuffix(reason.Error(), ": "+engine.ErrPortTaken.Error()), now)
			return nil
		})
		if !errors.As(err, new(*records.ErrTaken)) {
			return err
		}
	}
	return reason
}

func (m *Machine) publishOnce(ctx context.Context, names []string) map[string]error {
	changes := map[string]map[string]*engine.VirtualHost{}
	failed := map[string]error{}
	for _, name := range names {
		s, ok := m.Registry.Site(name)
		if !ok {
			continue
		}
		if err := m.LayPlaces(s); err != nil {
			failed[name] = err
			continue
		}
		if changes[s.Stack.Web] == nil {
			changes[s.Stack.Web] = map[string]*engine.VirtualHost{}
		}
		if s.HTTPS {
			if err := m.Book.KeepHTTPS(); err != nil {
				failed[name] = err
				continue
			}
		}
		host := m.VirtualHost(s)
		changes[s.Stack.Web][name] = &host
	}
	m.apply(ctx, changes, failed)
	if m.Reloaded != nil {
		m.Reloaded()
	}
	return failed
}

func (m *Machine) apply(ctx context.Context, changes map[string]map[string]*engine.VirtualHost, failed map[string]error) {
	for id, hosts := range changes {
		web, err := m.Web(id)
		if err != nil {
			for name := range hosts {
				failed[name] = err
			}
			continue
		}
		maps.Copy(failed, web.Apply(ctx, hosts, m.Settling()))
	}
}

// Withdraw takes sites' virtual hosts and routes away.
func (m *Machine) Withdraw(ctx context.Context, names []string) map[string]error {
	changes := map[string]map[string]*engine.VirtualHost{}
	failed := map[string]error{}
	for _, name := range names {
		s, ok := m.Registry.Site(name)
		if !ok {
			continue
		}
		if _, err := m.Store.Find(s.Stack.Web); err != nil {
			continue // no engine, so nothing of it runs
		}
		if changes[s.Stack.Web] == nil {
			changes[s.Stack.Web] = map[string]*engine.VirtualHost{}
		}
		changes[s.Stack.Web][name] = nil
	}
	m.apply(ctx, changes, failed)
	return failed
}

// Hold keeps the ports of new sites from everybody else until they are published. A site whose port somebody took since it was chosen gets
// another one, which is written to sites, unless it was asked for by number.
func (m *Machine) Hold(sites []site.Site) site.Problems {
	held := map[string]net.Listener{}
	problems := site.Problems{}
	for again := range 2 { // what could not be had is replaced once the others are held
		for i := range sites {
			s := &sites[i]
			if held[s.Name] != nil {
				continue
			}
			if again > 0 && !s.PortPinned {
				s.Port = cmp.Or(m.FreePort(), s.Port)
			}
			listener, err := listen(s.Port)
			if err == nil {
				held[s.Name] = listener
			} else if again > 0 {
				problems = append(problems, site.Problem{Site: s.Name, Field: "port", Message: fmt.Sprintf("%d was taken meanwhile by %s", s.Port,
					engine.Listener(s.Port)), Remedy: "ask again, or choose another port"})
			}
		}
	}
	if len(problems) > 0 {
		for _, each := range held {
			each.Close()
		}
		return problems
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	maps.Copy(m.held, held)
	return nil
}

// listen opens a port of this machine. One that somebody only looks at, as those do who look for a free port, is had a moment later.
func listen(port int) (listener net.Listener, err error) {
	for try := range 3 {
		time.Sleep(time.Duration(try) * 10 * time.Millisecond)
		if listener, err = net.Listen("tcp4", net.JoinHostPort("127.0.0.1", strconv.Itoa(port))); err == nil {
			return listener, nil
		}
	}
	return nil, err
}

// LetGo frees the ports that are held for sites.
func (m *Machine) LetGo(names ...string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, name := range names {
		if listener := m.held[name]; listener != nil {
			listener.Close()
			delete(m.held, name)
		}
	}
}

// uploadLimit is the largest body of a request that PHP takes, in bytes.
func uploadLimit(directives map[string]string) int64 {
	body, _ := site.Bytes(directives["post_max_size"])
	file, _ := site.Bytes(directives["upload_max_filesize"])
	return max(body, file+1<<20)
}
