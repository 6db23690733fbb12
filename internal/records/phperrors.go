package records

import (
	"cmp"
	"context"
	"crypto/sha256"
	"database/sql"
	"fmt"
	"slices"
	"time"

	"vessik/internal/core/phperrors"
)

// PHPError is what PHP complained of at one place of a site, however often.
type PHPError struct {
	phperrors.Message // the last one; its request is the last that is known
	Count             int64
	FirstAt           time.Time
}

// place tells what is counted together.
func place(m phperrors.Message) []byte {
	sum := sha256.Sum256(fmt.Appendf(nil, "%s\x00%s\x00%d", m.Kind, m.File, m.Line))
	return sum[:16]
}

// counted is what was said at each place, the last first, so many of them.
func counted(said []phperrors.Message, most int) []PHPError {
	all, at := []PHPError{}, map[string]int{}
	for _, m := range slices.Backward(said) {
		i, known := at[string(place(m))]
		if !known && len(all) == most {
			continue
		}
		if !known {
			i, all = len(all), append(all, PHPError{Message: m})
			at[string(place(m))] = i
		}
		e := &all[i]
		e.Count, e.FirstAt, e.Request = e.Count+1, m.At, cmp.Or(e.Request, m.Request)
	}
	return all
}

// AddPHPErrors adds what a site's PHP said to what is recorded of it, of which so many places are kept, those where it was said last; so
// many bytes of its log are read now.
func (r *Records) AddPHPErrors(ctx context.Context, site string, said []phperrors.Message, bytes int64, most int) error {
	doing, all := "record what PHP of "+site+" said", counted(said, most)
	return r.inOne(ctx, func(tx *sql.Tx) error {
		for _, e := range all {
			if _, err := tx.ExecContext(ctx, `INSERT INTO php_errors (site, place, kind, text, file, line, count, request, first_at, last_at)
				VALUES (?,?,?,?,?,?,?,?,?,?) ON DUPLICATE KEY UPDATE count=count+VALUES(count), text=VALUES(text), last_at=VALUES(last_at),
				request=IF(VALUES(request)='', request, VALUES(request))`, site, place(e.Message), e.Kind, e.Text, e.File, e.Line, e.Count,
				e.Request, e.FirstAt.UTC(), e.At.UTC()); err != nil {
				return wrap(err, doing)
			}
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM php_errors WHERE site=? AND place NOT IN (SELECT place FROM
			(SELECT place FROM php_errors WHERE site=? ORDER BY last_at DESC LIMIT ?) AS kept)`, site, site, most); err != nil {
			return wrap(err, doing)
		}
		_, err := tx.ExecContext(ctx, "REPLACE INTO php_error_logs (site, bytes) VALUES (?,?)", site, bytes)
		return wrap(err, doing)
	})
}

// PHPErrorsOf is what a site's PHP said, the last first.
func (r *Records) PHPErrorsOf(ctx context.Context, site string) ([]PHPError, error) {
	rows, err := r.db.QueryContext(ctx, `SELECT kind, text, file, line, count, request, first_at, last_at FROM php_errors WHERE site=?
		ORDER BY last_at DESC, file, line`, site)
	return collect(rows, err, "read what PHP of "+site+" said", func(scan func(...any) error) (e PHPError, err error) {
		err = scan(&e.Kind, &e.Text, &e.File, &e.Line, &e.Count, &e.Request, &e.FirstAt, &e.At)
		return e, err
	})
}

// PHPErrorLog is how far a site's log is read, and how many places are recorded of it.
type PHPErrorLog struct {
	Bytes  int64
	Places int
}

// PHPErrorLogs are those of all sites whose log was read.
func (r *Records) PHPErrorLogs(ctx context.Context) (map[string]PHPErrorLog, error) {
	rows, err := r.db.QueryContext(ctx, `SELECT site, bytes, (SELECT COUNT(*) FROM php_errors AS e WHERE e.site = l.site)
		FROM php_error_logs AS l`)
	logs := map[string]PHPErrorLog{}
	_, err = collect(rows, err, "read how far PHP's logs are read", func(scan func(...any) error) (none struct{}, err error) {
		name, log := "", PHPErrorLog{}
		err = scan(&name, &log.Bytes, &log.Places)
		logs[name] = log
		return none, err
	})
	return logs, err
}

// ForgetPHPErrors forgets what a site's PHP said.
func (r *Records) ForgetPHPErrors(ctx context.Context, site string) error {
	return r.set(ctx, "DELETE FROM php_errors WHERE site=?", site)
}
