package restack

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"vessik/internal/cms"
	"vessik/internal/core/dump"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/operation"
	"vessik/internal/running"
)

// moveDatabase copies a site's database to another server while its requests wait, and compares the two, table by table.
func (f *Feature) moveDatabase(ctx context.Context, w *operation.Part, s site.Site, p plan.Change) error {
	from, err := f.Changer.Machine.Database(ctx, p.Before.Stack.Database)
	if err != nil {
		return err
	}
	const moved, server = 3, 200 << 20 // tables, their log and what is sorted; a new server's own files
	if err := running.Room(f.Changer.Machine.Home.Dir, moved*f.Changer.Machine.DatabaseBytes(ctx, s)+server); err != nil {
		return err
	}
	to, err := f.Changer.Machine.Database(ctx, p.After.Stack.Database)
	if err != nil {
		return err
	}
	exists, err := to.HasDatabase(ctx, s.Database.Name, s.Database.User)
	if err != nil {
		return err
	}
	if exists {
		return fmt.Errorf("%s has a database %q or a user %q already, and no site's; drop or rename them there first", p.After.Stack.Database,
			s.Database.Name, s.Database.User)
	}
	if err := w.Note(made); err != nil {
		return err
	}
	if err := to.CreateDatabase(ctx, s.Database.Name, s.Database.User, s.Database.Password); err != nil {
		return err
	}
	if master := f.Changer.Machine.Master(s.Name); master != nil {
		master.Hold() // until the switch, or until it is taken back
	}
	started := time.Now()
	old, next := from.OpenAs(s.Database), to.OpenAs(s.Database)
	defer old.Close()
	defer next.Close()
	replaced := []string{}
	fit := cms.Fitting(ctx, to, func(a, b string) { replaced = append(replaced, a+" became "+b) })
	reader, writer := io.Pipe()
	go func() { writer.CloseWithError(cms.Dump(ctx, old, writer)) }()
	err = cms.Load(ctx, next, reader, new(dump.Judge), fit)
	reader.CloseWithError(err)
	if err != nil {
		return err
	}
	w.Progress("comparing the databases", -1)
	before, err := cms.Sums(ctx, old)
	if err != nil {
		return err
	}
	after, err := cms.Sums(ctx, next)
	if err != nil {
		return err
	}
	if differences := cms.Compare(before, after); len(differences) > 0 {
		return fmt.Errorf("the copy on %s differs: %s", p.After.Stack.Database, strings.Join(differences, ", "))
	}
	rows := int64(0)
	for _, sum := range before {
		rows += sum.Rows
	}
	words := fmt.Sprintf("%d tables with %d rows, all alike, in %d ms", len(before), rows, time.Since(started).Milliseconds())
	if len(replaced) > 0 {
		words += "; collations: " + strings.Join(replaced, ", ")
	}
	operation.Learn(w, func(p *plan.Change) { p.Moved = words })
	return f.Changer.Machine.CMS.Of(s).Repoint(s.Folder, to.Port)
}
