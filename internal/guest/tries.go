package guest

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"maps"
	"sync"
	"time"
)

// What wrong passwords cost.
const (
	freeTries    = 3                // of one guest, before each further one waits
	mostTries    = 10               // of one guest, who is shut out then
	shutOut      = 15 * time.Minute // from the last
	mostByAll    = 60               // within a minute, by all who try one invitation together
	mostGuests   = 10000            // whose sessions or tries are kept
	sessionLasts = 24 * time.Hour
)

// door keeps who was let in by an invitation, and who tried. Its methods may be called by many at once.
type door struct {
	now func() time.Time

	mu       sync.Mutex
	sessions map[string]time.Time // their ends, by the hash of the session
	wrong    map[string]*wrong    // by who asks
	minute   time.Time
	byAll    int
}

type wrong struct {
	times int
	last  time.Time
}

func newDoor(now func() time.Time) *door {
	return &door{now: now, sessions: map[string]time.Time{}, wrong: map[string]*wrong{}}
}

// wait is how long somebody must wait before the next try. The lock is held.
func (d *door) wait(who string, now time.Time) time.Duration {
	if d.byAll >= mostByAll && now.Sub(d.minute) < time.Minute {
		return d.minute.Add(time.Minute).Sub(now)
	}
	w := d.wrong[who]
	switch {
	case w == nil || w.times < freeTries:
		return 0
	case w.times >= mostTries:
		return max(w.last.Add(shutOut).Sub(now), 0)
	}
	return max(w.last.Add(time.Second<<(w.times-freeTries)).Sub(now), 0)
}

// try lets somebody in who says the right password: session is what shows it from then on. Who tried too often before must wait, and is not
// heard until then.
func (d *door) try(who, password, wanted string) (session string, wait time.Duration) {
	given, right := sha256.Sum256([]byte(password)), sha256.Sum256([]byte(wanted))
	d.mu.Lock()
	defer d.mu.Unlock()
	now := d.now()
	if wait := d.wait(who, now); wait > 0 {
		return "", wait
	}
	if subtle.ConstantTimeCompare(given[:], right[:]) != 1 {
		d.count(who, now)
		return "", d.wait(who, now)
	}
	delete(d.wrong, who)
	if len(d.sessions) >= mostGuests {
		maps.DeleteFunc(d.sessions, func(_ string, until time.Time) bool { return until.Before(now) })
	}
	if len(d.sessions) >= mostGuests {
		return "", time.Minute
	}
	session = rand.Text()
	d.sessions[hash(session)] = now.Add(sessionLasts)
	return session, 0
}

func (d *door) count(who string, now time.Time) {
	if now.Sub(d.minute) >= time.Minute {
		d.minute, d.byAll = now, 0
	}
	d.byAll++
	w := d.wrong[who]
	if w != nil && now.Sub(w.last) >= shutOut {
		w.times = 0
	}
	if w == nil {
		if len(d.wrong) >= mostGuests {
			clear(d.wrong) // mostByAll bounds them
		}
		w = &wrong{}
		d.wrong[who] = w
	}
	w.times++
	w.last = now
}

// knows tells whether a session is one that was let in.
func (d *door) knows(session string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	until, known := d.sessions[hash(session)]
	return known && d.now().Before(until)
}

func hash(text string) string {
	sum := sha256.Sum256([]byte(text))
	return string(sum[:])
}
