package running

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"hash/fnv"
	"maps"
	"slices"
	"time"

	"vessik/internal/cms"
	"vessik/internal/core/site"
	"vessik/internal/engine"
	"vessik/internal/home"
)

// Database returns the running server of an engine, starting it at its first use.
func (m *Machine) Database(ctx context.Context, id string) (*engine.DatabaseServer, error) {
	return m.databases.Use(ctx, id)
}

// startDatabase starts an engine's server. Its port is chosen once and recorded.
func (m *Machine) startDatabase(ctx context.Context, id string) (*engine.DatabaseServer, error) {
	e, err := m.Store.Find(id)
	if err != nil {
		return nil, err
	}
	d, err := m.startOnItsPort(ctx, e)
	if err != nil {
		return nil, err
	}
	own := []string{}
	for _, s := range m.Registry.All() {
		own = append(own, s.Database.Name, s.Database.User)
	}
	if err := cms.ClearScratch(ctx, d, own); err != nil {
		d.Stop()
		return nil, err
	}
	for _, s := range m.Registry.All() {
		if s.Stack.Database == id {
			if err := d.Limit(ctx, s.Database.User); err != nil {
				m.Log.Warn("limit the database user", "site", s.Name, "reason", err)
			}
		}
	}
	if err := m.ownDefiners(ctx, d); err != nil {
		m.Log.Warn("what runs as the database administrator", "engine", id, "reason", err)
	}
	return d, nil
}

// startOnItsPort starts a server on the port that is its own. One that is in no site's configuration yet gives way to another program.
func (m *Machine) startOnItsPort(ctx context.Context, e *engine.Engine) (*engine.DatabaseServer, error) {
	named := slices.ContainsFunc(m.Registry.All(), func(s site.Site) bool { return s.Stack.Database == e.ID && s.State != site.Making })
	for port, attempts := m.DatabasePort(e.ID), 0; ; attempts++ {
		if holder := engine.PortHolder(port); port != 0 && holder != "" && named {
			return nil, fmt.Errorf("port %d, which the configuration of every site on %s names, is held by %s; end that program "+
				"and start again", port, e.ID, holder)
		} else if port == 0 || holder != "" {
			var err error
			if port, err = m.chooseDatabasePort(e.ID); err != nil {
				return nil, err
			}
		}
		d, err := engine.StartDatabase(ctx, m.Supervisor, e, engine.DatabasePlace{Data: m.Home.Path("databases", e.ID),
			Run: m.Home.Path("run", e.ID), Log: m.Home.Path("logs", e.ID+".log"), Port: port,
			Password: m.Book.Settings().Passwords[e.ID], BufferMB: 128, Variables: m.Variables(e.ID)})
		if named || attempts == 9 || !errors.Is(err, engine.ErrPortTaken) {
			return d, err
		}
		port = 0 // somebody took it between the look and the use
	}
}

// ownDefiners mends, once a server, what earlier versions loaded in the administrator's name.
func (m *Machine) ownDefiners(ctx context.Context, d *engine.DatabaseServer) error {
	if m.Book.Settings().OwnDefiners[d.Engine.ID] {
		return nil
	}
	for _, s := range m.Registry.All() {
		if s.Stack.Database != d.Engine.ID {
			continue
		}
		dropped, err := cms.OwnDefiners(ctx, d, s.Database)
		if err != nil {
			return err
		}
		for _, what := range dropped {
			m.Log.Warn("dropped, since the site's own user cannot have it", "site", s.Name, "what", what)
		}
		if len(dropped) == 0 {
			continue
		}
		if err := m.Registry.Edit(ctx, s.Name, func(s *site.Site) error {
			s.Notice = fmt.Sprintf("%d views or triggers of its database ran as the database's administrator and could not "+
				"be made its own; they were dropped, and stand in logs/service.log", len(dropped))
			return nil
		}); err != nil {
			return err
		}
	}
	return m.Book.Edit(func(s *home.Settings) error { s.OwnDefiners[d.Engine.ID] = true; return nil })
}

// databasePorts is where database servers get their ports from.
var databasePorts = [2]int{22000, 24999}

// chooseDatabasePort takes a port for an engine for all the home's life: it stands in every site's configuration. Homes begin to look at
// different places, so that none takes a port of another that does not run at the moment.
func (m *Machine) chooseDatabasePort(id string) (chosen int, err error) {
	const each = 10
	hash := fnv.New32a()
	hash.Write([]byte(m.Home.Dir))
	count := databasePorts[1] - databasePorts[0] + 1
	first := int(hash.Sum32()) % (count / each) * each
	return chosen, m.Book.Edit(func(s *home.Settings) error {
		taken := slices.Collect(maps.Values(s.Ports))
		for i := range count {
			chosen = databasePorts[0] + (first+i)%count
			if !slices.Contains(taken, chosen) && engine.PortHolder(chosen) == "" {
				s.Ports[id] = chosen
				if s.Passwords[id] == "" { // it may have a server already, that never had this port
					s.Passwords[id] = cms.Password()
				}
				return nil
			}
		}
		return fmt.Errorf("no port from %d to %d is free for %s", databasePorts[0], databasePorts[1], id)
	})
}

// Variables are the server variables that the user set for a database engine.
func (m *Machine) Variables(id string) map[string]string {
	return m.Book.Settings().Variables[id]
}

// Outage tells whether a site's database server was down at any moment since a time.
func (m *Machine) Outage(s site.Site, since time.Time) bool {
	d := m.databases.Running(s.Stack.Database)
	if d == nil {
		return false
	}
	up := d.RunningSince()
	return up.IsZero() || up.After(since) || !engine.Listens(d.Port) // killed just now, which its visitors know before we do
}

// DatabasePort is where the sites on a database engine reach it; 0 before its first start.
func (m *Machine) DatabasePort(id string) int {
	return m.Book.Port(id)
}

// Pool opens a site's own database as the site's own user; release closes it.
func (m *Machine) Pool(ctx context.Context, s site.Site) (pool *sql.DB, release func(), err error) {
	database, end, err := m.databases.Lease(ctx, s.Stack.Database)
	if err != nil {
		return nil, end, err
	}
	pool = database.OpenAs(s.Database)
	return pool, func() { pool.Close(); end() }, nil
}

// DatabaseBytes is the size of a site's tables; 0 where their server does not tell.
func (m *Machine) DatabaseBytes(ctx context.Context, s site.Site) (bytes int64) {
	if database, release, err := m.databases.Lease(ctx, s.Stack.Database); err == nil {
		defer release()
		database.Admin().QueryRowContext(ctx, "SELECT COALESCE(SUM(DATA_LENGTH + INDEX_LENGTH), 0) FROM information_schema.TABLES WHERE "+
			"TABLE_SCHEMA=?", s.Database.Name).Scan(&bytes)
	}
	return bytes
}

// Lease is Database that keeps the server from being stopped for want of users until release is called.
func (m *Machine) Lease(ctx context.Context, id string) (database *engine.DatabaseServer, release func(), err error) {
	return m.databases.Lease(ctx, id)
}

// RunningDatabase is an engine's server if it runs at this moment, else nil.
func (m *Machine) RunningDatabase(id string) *engine.DatabaseServer { return m.databases.Running(id) }

// StopEngine stops the servers of an engine.
func (m *Machine) StopEngine(id string) {
	m.databases.Stop(id)
	m.webs.Stop(id)
}

// SetVariables starts a database engine anew with other server variables, while the requests of its sites wait.
func (m *Machine) SetVariables(ctx context.Context, id string, variables map[string]string) error {
	err := m.Book.Edit(func(s *home.Settings) error { s.Variables[id] = maps.Clone(variables); return nil })
	if err != nil || m.RunningDatabase(id) == nil {
		return err
	}
	masters := []*engine.PHPMaster{}
	m.mu.Lock()
	for name, master := range m.masters {
		if s, _ := m.Registry.Site(name); s.Stack.Database == id {
			masters = append(masters, master)
		}
	}
	m.mu.Unlock()
	for _, master := range masters {
		master.Hold()
	}
	m.databases.Stop(id)
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	_, err = m.Database(ctx, id)
	for _, master := range masters {
		if released := master.Release(); err == nil {
			err = released
		}
	}
	return err
}

// stopUnused stops database servers that neither a site nor anybody else needs, while nothing is being done; web servers stop with
// their last site.
func (m *Machine) stopUnused() {
	if m.Settling() {
		return
	}
	ids, stop := []string{}, func() {}
	m.WhileIdle(func() {
		used := map[string]bool{}
		for _, s := range m.Registry.All() {
			used[s.Stack.Database] = used[s.Stack.Database] || s.State != site.Stopped
		}
		ids, stop = m.databases.Unused(func(id string) bool { return used[id] })
	})
	stop() // which may take a while, and keeps nobody but those who want the very server
	for _, id := range ids {
		m.Log.Info("stopped, since nobody uses it", "engine", id)
	}
}
