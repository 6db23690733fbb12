package hosting

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
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
	// What is replaced, as it was when it was compared: sums of tables, and sizes and times of files; what is not named may have changed.
	Sums map[string]string `json:"sums,omitempty"`
	Seen map[string]string `json:"seen,omitempty"`
}

// See has the turn be refused where files are not any more what a list says.
func (t *Turn) See(entries []Entry) {
	there := map[string]Entry{}
	for _, e := range entries {
		there[e.Path] = e
	}
	t.Seen = map[string]string{}
	for _, name := range slices.Concat(t.Put, t.Gone) {
		t.Seen[name] = ""
		if e, is := there[name]; is {
			t.Seen[name] = fmt.Sprintf("%d %d", e.Size, e.Modified.Unix())
		}
	}
}

func (t Turn) asked(c Configuration, k *cms.Definition, prefix string) map[string]any {
	if len(t.Tables) == 0 {
		c.File = "" // nothing is asked of the database
	}
	seen := []string{} // of put and gone, in their order
	if t.Seen != nil {
		for _, name := range slices.Concat(t.Put, t.Gone) {
			seen = append(seen, t.Seen[name])
		}
	}
	return c.with(map[string]any{"stage": t.Stage, "put": encoded(t.Put), "gone": encoded(t.Gone), "tables": append([]string{}, t.Tables...),
		"sums": words(t.Sums), "seen": seen, "prefix": prefix, "restless": restless(k), "keep": keeping(k, t.Tables, prefix),
		"maintenance": k.Maintenance.File, "notice": k.Maintenance.Text})
}

// words is a map that is written as a JSON object, also where nothing is in it.
func words(all map[string]string) map[string]string {
	if all == nil {
		return map[string]string{}
	}
	return all
}

// restless are the rows of a CMS's tables that change by themselves.
func restless(k *cms.Definition) []map[string]string {
	all := []map[string]string{}
	for _, each := range k.Restless {
		all = append(all, map[string]string{"table": each.Table, "rows": each.Rows})
	}
	return all
}

// Sums tell the tables of a site from what they are at another time, by name; rows that change by themselves do not count.
func (h *Helper) Sums(ctx context.Context, c Configuration, k *cms.Definition, prefix string, tables []string) (map[string]string, error) {
	all := map[string]string{}
	for left := tables; len(left) > 0; {
		var answer struct {
			Sums []string `json:"sums"`
		}
		asked := c.with(map[string]any{"tables": left, "prefix": prefix, "restless": restless(k)})
		if err := h.asked(ctx, "sums", asked, nil, &answer); err != nil {
			return nil, err
		}
		if len(answer.Sums) == 0 || len(answer.Sums) > len(left) {
			return nil, errors.New("the host does not answer for the tables it was asked of")
		}
		for i, sum := range answer.Sums {
			all[left[i]] = sum
		}
		left = left[len(answer.Sums):]
	}
	return all, nil
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
