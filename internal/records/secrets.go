package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"

	"vessik/internal/core/site"
)

// secrets are what of a site nobody is to read who reads the records, a dump or a backup of them.
type secrets struct {
	Database  string `json:"database"`
	Admin     string `json:"admin"`
	AdminHash string `json:"admin_hash"`
	HeldHash  string `json:"held_hash,omitempty"`
	Probe     string `json:"probe"`
}

// apart takes a site's secrets out of what is recorded of it as it is.
func apart(s site.Site) (site.Site, secrets) {
	taken := secrets{s.Database.Password, s.Administrator.Password, s.AdminHash, s.HeldHash, s.Probe}
	s.Database.Password, s.Administrator.Password, s.AdminHash, s.HeldHash, s.Probe = "", "", "", "", ""
	return s, taken
}

func (t secrets) into(s *site.Site) {
	s.Database.Password, s.Administrator.Password, s.AdminHash, s.HeldHash, s.Probe = t.Database, t.Admin, t.AdminHash, t.HeldHash, t.Probe
}

// executor is the pool, or a transaction.
type executor interface {
	ExecContext(ctx context.Context, statement string, values ...any) (sql.Result, error)
}

func secretName(site string) string { return "site " + site }

// saveSecrets seals a site's secrets; its row is there.
func (r *Records) saveSecrets(ctx context.Context, in executor, name string, taken secrets) error {
	text, err := json.Marshal(taken)
	if err != nil {
		return err
	}
	r.sealed.Delete(name) // until it is known that they are written
	_, err = in.ExecContext(ctx, "INSERT INTO secrets (site, sealed) VALUES (?,?) ON DUPLICATE KEY UPDATE sealed=VALUES(sealed)", name,
		r.key.Seal(secretName(name), text))
	return wrap(err, "record the secrets of "+name)
}

// areSealed tells whether a site's secrets are known to be recorded so already.
func (r *Records) areSealed(name string, taken secrets) bool {
	known, ok := r.sealed.Load(name)
	return ok && known == taken
}

// withSecrets reads the secrets of sites, and seals those that an earlier version recorded as they are.
func (r *Records) withSecrets(ctx context.Context, sites []site.Site) error {
	type row struct {
		name   string
		sealed []byte
	}
	rows, err := r.db.QueryContext(ctx, "SELECT site, sealed FROM secrets")
	found, err := collect(rows, err, "read the secrets", func(scan func(...any) error) (one row, err error) {
		return one, scan(&one.name, &one.sealed)
	})
	if err != nil {
		return err
	}
	sealed := map[string][]byte{}
	for _, one := range found {
		sealed[one.name] = one.sealed
	}
	for i := range sites {
		s := &sites[i]
		if sealed[s.Name] == nil {
			if s.Database.Password == "" { // nor did an earlier version record them
				return fmt.Errorf("the secrets of %s are not in the records any more; put these back from a backup", s.Name)
			}
			if err := r.SaveSite(ctx, *s); err != nil {
				return err
			}
			continue
		}
		text, err := r.key.Open(secretName(s.Name), sealed[s.Name])
		if err != nil {
			return err
		}
		var taken secrets
		if err := json.Unmarshal(text, &taken); err != nil {
			return fmt.Errorf("read the secrets of %s: %w", s.Name, err)
		}
		taken.into(s)
		r.sealed.Store(s.Name, taken)
	}
	return nil
}
