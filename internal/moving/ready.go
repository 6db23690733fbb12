package moving

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"

	"golang.org/x/sync/errgroup"

	"vessik/internal/cms"
	core "vessik/internal/core/hosting"
	"vessik/internal/core/site"
	"vessik/internal/ownfile"
)

// mostKeepers is of how many administrators a look is taken at what opens their accounts.
const mostKeepers = 3

// amiss says what the live site has, or would have, that it should not: habits of a local one, and what it is too old for.
func (c *comparing) amiss(ctx context.Context, v *visit, k *cms.Definition) error {
	add := func(words string, values ...any) {
		c.preview.Warnings = append(c.preview.Warnings, fmt.Sprintf(words, values...))
	}
	if free := c.at.looked.Free; free >= 0 && free < float64(2*c.preview.Bytes) {
		add("the host has %.0f MB left, and twice what is carried is needed for a moment: make room there", free/1e6)
	}
	if core.Older(c.at.looked.PHP, strings.TrimPrefix(c.s.Stack.PHP, "php-")) {
		add("the host's PHP is %s, and the site runs on %s here: try it on the older one first (vessik trial)", c.at.looked.PHP, c.s.Stack.PHP)
	}
	if there := core.MariaDB(c.at.looked.Database); core.Older(there, strings.TrimPrefix(c.s.Stack.Database, "mariadb-")) {
		add("the host's database is MariaDB %s, and the site's is %s here: try it on the older one first (vessik trial)", there,
			c.s.Stack.Database)
	}
	if k.Configuration.File == "" {
		return nil
	}
	found, err := c.there(ctx, v).Amiss(c.at.looked.Text)
	if err != nil {
		return err
	}
	for _, words := range found {
		add("the live site: %s", words)
	}
	if !c.asked.People { // what is stored of those at the host stays there
		return nil
	}
	return c.f.askingHere(ctx, c.s, func(here cms.Elsewhere) error {
		keepers, err := here.Keepers(mostKeepers)
		if err != nil {
			return err
		}
		return c.guessed(c.s.Name+", whose people are pushed", k, keepers)
	})
}

// there is the site at the host, whose database is asked through the helper.
func (c *comparing) there(ctx context.Context, v *visit) cms.Elsewhere {
	return cms.Elsewhere{Definition: c.at.cms, Prefix: c.said.Prefix, Ask: func(statement string) ([][]string, error) {
		return v.helper.Query(ctx, c.at.configuration, statement)
	}}
}

// askingHere asks the database of a site here as that of a host is asked.
func (f *Feature) askingHere(ctx context.Context, s site.Site, do func(here cms.Elsewhere) error) error {
	pool, release, err := f.Machine.Pool(ctx, s)
	if err != nil {
		return err
	}
	defer release()
	return do(cms.Elsewhere{Definition: f.Machine.CMS.Of(s), Prefix: f.Machine.CMSFacts(s).Prefix, Ask: cms.AskOf(ctx, pool)})
}

// guessed tells of administrators whom everybody guesses. What is stored of a password is tried once, which takes a while by its nature.
func (c *comparing) guessed(where string, k *cms.Definition, keepers []cms.Keeper) error {
	file, known, next := filepath.Join(c.m.dir, "tried.json"), map[string]bool{}, map[string]bool{}
	if text, err := ownfile.Read(file); err == nil && json.Unmarshal(text, &known) != nil {
		known = map[string]bool{}
	}
	weak := make([]bool, len(keepers))
	var group errgroup.Group
	for i, keeper := range keepers {
		var tried bool
		if weak[i], tried = known[keyOf(keeper)]; tried {
			continue
		}
		group.Go(func() error {
			weak[i] = k.Guessed(keeper, site.UsualPasswords(keeper.Name)) != ""
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	for i, keeper := range keepers {
		next[keyOf(keeper)] = weak[i]
		if weak[i] {
			c.preview.Warnings = append(c.preview.Warnings, fmt.Sprintf("%s: the password of %.60q is one that everybody tries first: "+
				"give it another one there", where, keeper.Name))
		}
		if site.IsGuessed(keeper.Name) {
			c.preview.Warnings = append(c.preview.Warnings, fmt.Sprintf("%s: an administrator is called %.60q, which everybody tries first: "+
				"let another one do its work, and remove it", where, keeper.Name))
		}
	}
	return writeJSON(file, next)
}

// keyOf stands for what is stored of a keeper.
func keyOf(keeper cms.Keeper) string {
	sum := sha256.Sum256([]byte(keeper.Name + "\n" + keeper.Stored))
	return hex.EncodeToString(sum[:])
}
