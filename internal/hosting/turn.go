package hosting

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"

	"vessik/internal/cms"
	"vessik/internal/core/rewrite"
	"vessik/internal/engine"
)

// StageName draws a name for the folder in which lies what takes the place of a site's files and tables.
func StageName() string {
	name, _ := HelperName()
	return "." + strings.TrimSuffix(name, ".php")
}

// Turn is what takes the place of what, once it lies in a stage: files and tables by their names, and what goes.
type Turn struct {
	Stage  string   `json:"stage"`
	Put    []string `json:"put"`
	Gone   []string `json:"gone"`
	Tables []string `json:"tables"`
}

func (t Turn) asked(c Configuration, k *cms.Definition, prefix string) map[string]any {
	if len(t.Tables) == 0 {
		c.File = "" // nothing is asked of the database
	}
	return c.with(map[string]any{"stage": t.Stage, "put": encoded(t.Put), "gone": encoded(t.Gone), "tables": append([]string{}, t.Tables...),
		"keep": keeping(k, t.Tables, prefix), "maintenance": k.Maintenance.File, "notice": k.Maintenance.Text})
}

func encoded(names []string) []string {
	all := []string{}
	for _, name := range names {
		all = append(all, base64.StdEncoding.EncodeToString([]byte(name)))
	}
	return all
}

// keeping is the SQL by which what is the live site's own stays so in tables that take the place of others.
func keeping(k *cms.Definition, tables []string, prefix string) []map[string]string {
	all := []map[string]string{}
	for _, table := range tables {
		for _, each := range k.Kept {
			if cms.BareTable(table, prefix) != each.Table {
				continue
			}
			key, column, names := engine.Identifier(each.Key), engine.Identifier(each.Column), []string{}
			for _, name := range each.Names {
				names = append(names, rewrite.Quote(name))
			}
			all = append(all, map[string]string{"table": table, "sql": fmt.Sprintf(
				"UPDATE {next} AS n JOIN {now} AS o ON n.%s=o.%s SET n.%s=o.%s WHERE n.%s IN (%s)", key, key, column, column, key,
				strings.Join(names, ","))})
		}
	}
	return all
}

// Load fills tables beside those of the site from the stage's dump. told is told how far it is, in bytes.
func (h *Helper) Load(ctx context.Context, c Configuration, k *cms.Definition, prefix string, t Turn, told func(bytes int64)) error {
	return h.on(ctx, "load", t.asked(c, k, prefix), told)
}

// Turn puts what lies in the stage in the place of what was there: all of it, or after Back none.
func (h *Helper) Turn(ctx context.Context, c Configuration, k *cms.Definition, prefix string, t Turn) error {
	return h.on(ctx, "turn", t.asked(c, k, prefix), nil)
}

// Back has everything be what it was, and removes the stage. It bears being asked again, and that nothing was turned.
func (h *Helper) Back(ctx context.Context, c Configuration, k *cms.Definition, t Turn) error {
	return h.on(ctx, "back", t.asked(c, k, ""), nil)
}

// Clear removes a stage, and with it what was there before.
func (h *Helper) Clear(ctx context.Context, c Configuration, k *cms.Definition, t Turn) error {
	return h.on(ctx, "clear", t.asked(c, k, ""), nil)
}

// on asks until it is done.
func (h *Helper) on(ctx context.Context, do string, asked map[string]any, told func(bytes int64)) error {
	for range 100_000 {
		var answer struct {
			Done bool  `json:"done"`
			At   int64 `json:"at"`
		}
		if err := h.asked(ctx, do, asked, nil, &answer); err != nil {
			return err
		}
		if answer.Done {
			return nil
		}
		if told != nil {
			told(answer.At)
		}
	}
	return errors.New("the host does not get on")
}
