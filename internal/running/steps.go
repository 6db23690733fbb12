package running

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"vessik/internal/cms"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/operation"
	"vessik/internal/ownfile"
)

// Names of the steps that start and stop things.
const (
	FetchEngines   plan.Step = "fetch-engines"
	CreateDatabase plan.Step = "create-database"
	StartPHP       plan.Step = "start-php"
	Publish        plan.Step = "publish"
	Withdraw       plan.Step = "withdraw"
	StopPHP        plan.Step = "stop-php"
	DropDatabase   plan.Step = "drop-database"
	Release        plan.Step = "release"
)

// FetchStep brings the engines into the store that a site needs, and the extensions of its PHP; become says what the site will be.
func (m *Machine) FetchStep(needed func(s site.Site) []string, become func(w *operation.Part, s site.Site) site.Site) operation.Step {
	return operation.Step{Name: FetchEngines, Title: "fetching engines", Do: func(ctx context.Context, w *operation.Part) error {
		s, err := w.Site()
		if err != nil {
			return err
		}
		if become != nil {
			s = become(w, s)
		}
		if _, err := m.Store.Ensure(ctx, needed(s), w.Progress); err != nil {
			return err
		}
		if lacking := m.Store.LacksExtensions(s.Stack.PHP, s.Settings); len(lacking) > 0 {
			return m.Store.AddExtensions(ctx, s.Stack.PHP, lacking, w.Progress)
		}
		return nil
	}}
}

// DatabaseStep makes a site's database and its user. One that was there before is nobody's to take.
func (m *Machine) DatabaseStep() operation.Step {
	return operation.Step{Name: CreateDatabase, Title: "creating the database",
		Do: func(ctx context.Context, w *operation.Part) error {
			s, err := w.Site()
			if err != nil {
				return err
			}
			return m.createDatabase(ctx, s, w.Note)
		},
		Undo: func(ctx context.Context, w *operation.Part, note string) error {
			s, err := w.Site()
			if err != nil || note == "" { // it was not ours to make
				return err
			}
			database, err := m.Database(ctx, s.Stack.Database)
			if err != nil {
				return err
			}
			return database.DropDatabase(ctx, s.Database.Name, s.Database.User)
		}}
}

func (m *Machine) createDatabase(ctx context.Context, s site.Site, note func(string) error) error {
	database, err := m.Database(ctx, s.Stack.Database)
	if err != nil {
		return err
	}
	exists, err := database.HasDatabase(ctx, s.Database.Name, s.Database.User)
	if err != nil {
		return err
	}
	if exists {
		return fmt.Errorf("%s has a database %q or a user %q already, and no site's; choose others with -database-name and -database-user",
			s.Stack.Database, s.Database.Name, s.Database.User)
	}
	if err := note("made"); err != nil {
		return err
	}
	return database.CreateDatabase(ctx, s.Database.Name, s.Database.User, s.Database.Password)
}

// KeepForeign has a database that was there before not be dropped with a site that could not be made.
func (m *Machine) KeepForeign(w *operation.Part) {
	for _, entry := range w.Journal() {
		if entry.Step == CreateDatabase && entry.State != plan.Pending && entry.Note == "" {
			err := m.Registry.Edit(context.WithoutCancel(m.Work.Context()), w.Name, func(s *site.Site) error {
				s.Database.Foreign = true
				return nil
			})
			if err != nil {
				m.Log.Error("keep a foreign database", "site", w.Name, "reason", err)
			}
		}
	}
}

// StartStep opens a site's PHP and wakes it.
func (m *Machine) StartStep() operation.Step {
	return operation.Step{Name: StartPHP, Title: "starting PHP", Passing: true,
		Do: func(ctx context.Context, w *operation.Part) error {
			s, err := w.Site()
			if err != nil {
				return err
			}
			if _, err := m.Database(ctx, s.Stack.Database); err != nil {
				return err
			}
			return m.StartPHP(ctx, s)
		},
		Undo: func(_ context.Context, w *operation.Part, _ string) error {
			s, err := w.Site()
			if err == nil {
				m.StopPHP(s)
			}
			return err
		}}
}

// PublishStep gives sites their web servers, all together.
func (m *Machine) PublishStep() operation.Step {
	return operation.Step{Name: Publish, Title: "publishing", All: m.Publish, Passing: true,
		Undo: func(ctx context.Context, w *operation.Part, _ string) error {
			return m.Withdraw(ctx, []string{w.Name})[w.Name]
		}}
}

// WithdrawStep takes sites' web servers away, all together.
func (m *Machine) WithdrawStep() operation.Step {
	return operation.Step{Name: Withdraw, Title: "withdrawing", All: m.Withdraw}
}

// Alone is a step that is done together, done for each site by itself.
func Alone(step operation.Step) operation.Step {
	all := step.All
	step.All = nil
	step.Do = func(ctx context.Context, w *operation.Part) error { return all(ctx, []string{w.Name})[w.Name] }
	return step
}

// StopStep ends a site's PHP.
func (m *Machine) StopStep() operation.Step {
	return operation.Step{Name: StopPHP, Title: "stopping PHP", Do: func(_ context.Context, w *operation.Part) error {
		s, err := w.Site()
		if err == nil {
			m.StopPHP(s)
		}
		return err
	}}
}

// DropStep removes a site's database and user; keep tells whether its content stays as a dump.
func (m *Machine) DropStep(keep func(w *operation.Part) bool) operation.Step {
	return operation.Step{Name: DropDatabase, Title: "dropping the database", Do: func(ctx context.Context, w *operation.Part) error {
		s, err := w.Site()
		if err != nil {
			return err
		}
		return m.dropDatabase(ctx, w, s, keep(w))
	}}
}

// dropDatabase removes a site's database and user. When the files are kept, the content is kept beside them as a dump.
func (m *Machine) dropDatabase(ctx context.Context, w *operation.Part, s site.Site, keep bool) error {
	database, err := m.Database(ctx, s.Stack.Database)
	if err != nil {
		return err
	}
	if s.Database.Foreign {
		return nil
	}
	exists, err := database.HasDatabase(ctx, s.Database.Name, s.Database.User)
	if err != nil {
		return err
	}
	if keep && exists {
		path := m.Home.Path("kept", s.Name+"-"+time.Now().UTC().Format("20060102-150405")+".sql")
		pool := database.OpenAs(s.Database)
		defer pool.Close()
		file, err := ownfile.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
		if err != nil {
			return err
		}
		if err := errors.Join(cms.Dump(ctx, pool, file), file.Close()); err != nil {
			return fmt.Errorf("keep the database as %s: %w", path, err)
		}
		if err := w.Note("files kept in " + s.Folder + ", database kept in " + path); err != nil {
			return err
		}
	}
	return database.DropDatabase(ctx, s.Database.Name, s.Database.User)
}

// ReserveStep is done with the request itself; its undo forgets the site.
func (m *Machine) ReserveStep() operation.Step {
	return operation.Step{Name: plan.Reserve, Title: "reserving", Undo: func(ctx context.Context, w *operation.Part, _ string) error {
		return m.release(ctx, w)
	}}
}

// ReleaseStep removes what the service kept for a site, and then its records.
func (m *Machine) ReleaseStep() operation.Step {
	return operation.Step{Name: Release, Title: "releasing", Do: m.release}
}

func (m *Machine) release(ctx context.Context, w *operation.Part) error {
	s, err := w.Site()
	if err != nil {
		return err
	}
	m.LetGo(s.Name)
	for _, path := range append(m.Places(s.Name), filepath.Dir(m.Socket(s))) {
		if err := ownfile.RemoveAll(path); err != nil {
			return err
		}
	}
	return m.Registry.Drop(ctx, s.Name)
}

// Places are what is kept for a site below its name.
func (m *Machine) Places(name string) []string {
	return []string{m.Home.Path("restore", name), m.Home.Path("pictures", name), m.Home.Path("walks", name), m.Home.Path("run", "php", name),
		m.Home.Path("tmp", name), m.Home.SiteLogs(name), m.Home.Path("mail", name), m.Home.Path("guests", name),
		m.Home.Path("kept", name+".configuration")}
}
