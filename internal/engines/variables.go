package engines

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"vessik/internal/core/check"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/engine"
)

// SetVariables gives a database engine server variables of the user's own; an empty value takes one back. The server reads them
// before anything changes, is started anew while its sites' requests wait, and the sites are asked; what does not work is taken back.
func (f *Feature) SetVariables(ctx context.Context, part string, values map[string]string, who string) error {
	f.Operations.Judging.Lock()
	defer f.Operations.Judging.Unlock()
	problem := func(field, message, remedy string) error {
		return site.Problems{{Field: field, Message: message, Remedy: remedy}}
	}
	id, err := f.database(part)
	if err != nil {
		return err
	}
	e, err := f.Machine.Store.Find(id)
	if err != nil {
		return problem("id", err.Error(), "fetch it first: vessik engines fetch "+id)
	}
	values, err = f.canonical(ctx, id, values)
	if err != nil {
		return err
	}
	next := f.Machine.Variables(id)
	if next == nil {
		next = map[string]string{}
	}
	for name, value := range values {
		maps.DeleteFunc(next, func(other, _ string) bool { return strings.ReplaceAll(other, "-", "_") == name && other != name })
		switch {
		case !variableName(name):
			return problem(name, "is not a variable's name", "write it as the server has it, such as max_connections")
		case slices.Contains(heldVariables, strings.ReplaceAll(name, "-", "_")):
			return problem(name, "keeps the sites apart or in reach, and is set by Vessik", "leave it out")
		case strings.ContainsAny(value, "\n\r\"'#\\"):
			return problem(name, fmt.Sprintf("%q cannot stand in a configuration", value), "write it without quotes and line ends")
		case value == "":
			delete(next, name)
		default:
			next[name] = value
		}
	}
	place := engine.DatabasePlace{Data: f.Machine.Home.Path("databases", id), Run: f.Machine.Home.Path("run", id), BufferMB: 128,
		Variables: next}
	if err := engine.CheckVariables(ctx, f.Machine.Supervisor, e, place); err != nil {
		return problem("variables", err.Error(), "mend what it says; nothing was changed")
	}
	before := f.Machine.Variables(id)
	witness, asked := f.witness(id)
	var proven check.SiteReport
	if asked {
		proven = f.Verifier.Verify(ctx, witness, func(check.SiteReport) {})
	}
	err = f.Machine.SetVariables(ctx, id, next)
	if err == nil && asked {
		now := f.Verifier.Verify(ctx, witness, func(check.SiteReport) {})
		if worse := check.Worse(proven, now); len(worse) > 0 {
			err = fmt.Errorf("with them, %s no longer passes %s: %s", witness.Name, worse[0], now.Result(worse[0]).Observed)
		}
	}
	if err != nil {
		if again := f.Machine.SetVariables(context.WithoutCancel(ctx), id, before); again != nil {
			return fmt.Errorf("%s does not work with them (%w), and going back failed: %w", id, err, again)
		}
		return problem("variables", err.Error(), "mend what it says; the server runs as before")
	}
	if maps.Equal(before, next) {
		return nil
	}
	return f.Records.SaveVariables(ctx, plan.VariablesEntry{Engine: id, Who: who, Variables: next})
}

// VariablesPage shows what a database engine's server variables are set to, and what they were.
func (f *Feature) VariablesPage(ctx context.Context, part string) (wire.VariablesPage, error) {
	id, err := f.database(part)
	if err != nil {
		return wire.VariablesPage{}, err
	}
	page := wire.VariablesPage{Engine: id, Variables: f.Machine.Variables(id)}
	if page.Variables == nil {
		page.Variables = map[string]string{}
	}
	page.History, err = f.Records.VariablesHistory(ctx, id)
	return page, err
}

func (f *Feature) database(part string) (id string, err error) {
	id, ok := site.MatchEngine(f.Facts.Engines()["database"], part)
	if !ok {
		return "", site.Problems{{Field: "id", Message: fmt.Sprintf("no database engine fits %q", part),
			Remedy: "choose one of " + strings.Join(f.Machine.Store.IDs(engine.Database), ", ")}}
	}
	return id, nil
}

// witness is a running site on a database engine, by which a change of that engine is proven.
func (f *Feature) witness(database string) (site.Site, bool) {
	sites := f.Machine.Registry.All()
	i := slices.IndexFunc(sites, func(s site.Site) bool {
		return s.Stack.Database == database && s.State == site.Running && s.TrialOf == ""
	})
	if i < 0 {
		return site.Site{}, false
	}
	return sites[i], true
}

func variableName(name string) bool {
	return name != "" && strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789_-") == ""
}

var heldVariables = []string{"port", "socket", "datadir", "basedir", "pid_file", "tmpdir", "bind_address", "skip_networking",
	"skip_name_resolve", "skip_grant_tables", "secure_file_priv", "local_infile",
	"init_file", "plugin_dir", "plugin_load", "plugin_load_add", "user", "lc_messages_dir", "character_sets_dir", "defaults_file", "log_error"}

// canonical names variables as the server does: it takes a name with hyphens, and an unambiguous beginning, for the same one, and two
// spellings of it would stand beside each other.
func (f *Feature) canonical(ctx context.Context, id string, values map[string]string) (map[string]string, error) {
	d, err := f.Machine.Database(ctx, id)
	if err != nil {
		return nil, err
	}
	known, err := d.VariableNames(ctx)
	if err != nil {
		return nil, err
	}
	next := map[string]string{}
	for name, value := range values {
		name = strings.ReplaceAll(name, "-", "_")
		if !slices.Contains(known, name) && name != "" {
			for _, full := range known {
				if strings.HasPrefix(full, name) {
					return nil, site.Problems{{Field: name, Message: "is no variable of " + id, Remedy: "did you mean " + full + "?"}}
				}
			}
		}
		next[name] = value
	}
	return next, nil
}
