package engine

import (
	"context"
	"database/sql"
	"fmt"
	"sync"
	"time"
)

// UserWork is what a user had a database server do.
type UserWork struct {
	Statements, Rows int64 // that were run, and that were read for them
	Busy             time.Duration
	Longest          string        // the statement that was seen for the longest time
	LongestTook      time.Duration // at least
}

// lookAtStatements is how often a user's statements are looked at, longestStatement how much of one is kept, in characters.
const (
	lookAtStatements = 15 * time.Millisecond
	longestStatement = 300
)

// WatchUser has the server count what a user does, until done is called, which tells it. The server counts for nobody else afterwards: two
// who watch one server follow each other.
func (d *DatabaseServer) WatchUser(ctx context.Context, user string) (done func() (UserWork, error), err error) {
	if _, err := d.admin.ExecContext(ctx, "SET GLOBAL userstat = 1"); err != nil {
		return nil, err
	}
	off := func() error {
		_, err := d.admin.ExecContext(context.WithoutCancel(ctx), "SET GLOBAL userstat = 0")
		return err
	}
	before, err := d.userWork(ctx, user)
	if err != nil {
		off()
		return nil, err
	}
	looking, end := context.WithCancel(ctx)
	var seen UserWork
	var watching sync.WaitGroup
	watching.Go(func() { seen = d.lookAtStatements(looking, user) })
	return func() (UserWork, error) {
		end()
		watching.Wait()
		now, err := d.userWork(ctx, user)
		if fault := off(); err == nil {
			err = fault
		}
		if err != nil {
			return UserWork{}, fmt.Errorf("count what %s asks: %w", user, err)
		}
		seen.Statements, seen.Rows, seen.Busy = now.Statements-before.Statements, now.Rows-before.Rows, now.Busy-before.Busy
		return seen, nil
	}, nil
}

func (d *DatabaseServer) userWork(ctx context.Context, user string) (work UserWork, err error) {
	var busy float64
	err = d.admin.QueryRowContext(ctx, "SELECT COALESCE(SUM(SELECT_COMMANDS + UPDATE_COMMANDS + OTHER_COMMANDS), 0), "+
		"COALESCE(SUM(ROWS_READ), 0), COALESCE(SUM(BUSY_TIME), 0) FROM information_schema.USER_STATISTICS WHERE USER = ?", user).
		Scan(&work.Statements, &work.Rows, &busy)
	work.Busy = time.Duration(busy * float64(time.Second))
	return work, err
}

// lookAtStatements looks at what is being run, until ctx ends.
func (d *DatabaseServer) lookAtStatements(ctx context.Context, user string) (seen UserWork) {
	for {
		var text sql.NullString
		var took float64
		if d.admin.QueryRowContext(ctx, "SELECT LEFT(INFO, ?), TIME_MS FROM information_schema.PROCESSLIST "+
			"WHERE USER = ? AND COMMAND = 'Query' AND INFO IS NOT NULL ORDER BY TIME_MS DESC LIMIT 1", longestStatement, user).
			Scan(&text, &took) == nil {
			if now := time.Duration(took * float64(time.Millisecond)); now > seen.LongestTook {
				seen.Longest, seen.LongestTook = text.String, now
			}
		}
		select {
		case <-ctx.Done():
			return seen
		case <-time.After(lookAtStatements):
		}
	}
}
