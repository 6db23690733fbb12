package records

import (
	"context"
	"time"
)

// Outgoing is what a site asked of one port of one address of another machine, by one name; port 0 and no address stand for the name alone.
type Outgoing struct {
	Site, Host, Address            string
	Port                           int
	Count, Refused, Failed, Caught int64
	Milliseconds                   int64 // of all that stood, until they did
	FirstAt, LastAt                time.Time
}

const outgoingColumns = "site, host, address, port, count, refused, failed, caught, milliseconds, first_at, last_at"

// AddOutgoing adds what was asked to what is recorded of it, and keeps so many of each site, those that were asked last.
func (r *Records) AddOutgoing(ctx context.Context, all []Outgoing, most int) error {
	tx, err := r.db.BeginTx(ctx, nil)
	if err != nil {
		return wrap(err, "record what sites ask of other machines")
	}
	defer tx.Rollback()
	sites := map[string]bool{}
	for _, o := range all {
		sites[o.Site] = true
		if _, err := tx.ExecContext(ctx, "INSERT INTO outgoing ("+outgoingColumns+`) VALUES (?,?,?,?,?,?,?,?,?,?,?) ON DUPLICATE KEY UPDATE
			count=count+VALUES(count), refused=refused+VALUES(refused), failed=failed+VALUES(failed), caught=caught+VALUES(caught),
			milliseconds=milliseconds+VALUES(milliseconds), last_at=VALUES(last_at)`,
			o.Site, cut(o.Host, 255), o.Address, o.Port, o.Count, o.Refused, o.Failed, o.Caught, o.Milliseconds, o.FirstAt.UTC(),
			o.LastAt.UTC()); err != nil {
			return wrap(err, "record what "+o.Site+" asks of other machines")
		}
	}
	for site := range sites {
		if _, err := tx.ExecContext(ctx, `DELETE FROM outgoing WHERE site=? AND (host, address, port) NOT IN (SELECT host, address, port FROM
			(SELECT host, address, port FROM outgoing WHERE site=? ORDER BY last_at DESC LIMIT ?) AS kept)`, site, site, most); err != nil {
			return wrap(err, "forget what "+site+" asked of other machines")
		}
	}
	return wrap(tx.Commit(), "record what sites ask of other machines")
}

// OutgoingOf is what a site asked, the last first.
func (r *Records) OutgoingOf(ctx context.Context, site string) ([]Outgoing, error) {
	const last = " FROM outgoing WHERE site=? ORDER BY last_at DESC, host, address, port"
	rows, err := r.db.QueryContext(ctx, "SELECT "+outgoingColumns+last, site)
	if err != nil {
		return nil, wrap(err, "read what "+site+" asked of other machines")
	}
	defer rows.Close()
	found := []Outgoing{}
	for rows.Next() {
		o := Outgoing{}
		if err := rows.Scan(&o.Site, &o.Host, &o.Address, &o.Port, &o.Count, &o.Refused, &o.Failed, &o.Caught, &o.Milliseconds, &o.FirstAt,
			&o.LastAt); err != nil {
			return nil, wrap(err, "read what "+site+" asked of other machines")
		}
		found = append(found, o)
	}
	return found, wrap(rows.Err(), "read what "+site+" asked of other machines")
}

// ForgetOutgoing forgets what a site asked.
func (r *Records) ForgetOutgoing(ctx context.Context, site string) error {
	return r.set(ctx, "DELETE FROM outgoing WHERE site=?", site)
}
