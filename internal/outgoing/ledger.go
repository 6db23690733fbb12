// Package outgoing keeps the ledger of what sites ask of other machines.
package outgoing

import (
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"vessik/internal/records"
	"vessik/internal/running"
)

// Bounds of what is kept of one site: rows, and names of addresses; and how often it is written.
const (
	mostRows   = 500
	mostNames  = 4000
	namesOfOne = 8
	mostSeen   = 2000 // by one who watches
	writeEvery = 2 * time.Second
	writeFor   = 30 * time.Second
)

// others stands for the hosts of a site that asks more of them than are kept.
const others = "others"

// row is what tells one line of the ledger from another.
type row struct {
	host, address string
	port          int
}

// sheet is what is known of one site. What was asked since it was written last waits in rows.
type sheet struct {
	rows     map[row]*records.Outgoing
	names    map[netip.Addr][]string
	watchers map[*watcher]bool
}

// watcher sees what a site asks while it watches.
type watcher struct{ seen map[row]*records.Outgoing }

// Ledger is that of one home: running.Ledger.
type Ledger struct {
	mu     sync.Mutex // held for moments only: programs wait for it
	sheets map[string]*sheet
}

// sheet is a site's; the lock is held.
func (l *Ledger) sheet(site string) *sheet {
	s := l.sheets[site]
	if s == nil {
		if l.sheets == nil {
			l.sheets = map[string]*sheet{}
		}
		s = &sheet{rows: map[row]*records.Outgoing{}, names: map[netip.Addr][]string{}, watchers: map[*watcher]bool{}}
		l.sheets[site] = s
	}
	return s
}

// note adds to a line of the ledger, and to what those see who watch.
func (l *Ledger) note(site string, at row, add func(o *records.Outgoing)) {
	l.mu.Lock()
	defer l.mu.Unlock()
	s := l.sheet(site)
	on := func(rows map[row]*records.Outgoing, at row, most int) {
		if rows[at] == nil && len(rows) >= most {
			at = row{host: others}
		}
		o := rows[at]
		if o == nil {
			o = &records.Outgoing{Site: site, Host: at.host, Address: at.address, Port: at.port, FirstAt: time.Now()}
			rows[at] = o
		}
		o.LastAt = time.Now()
		add(o)
	}
	for w := range s.watchers {
		on(w.seen, at, mostSeen)
	}
	on(s.rows, at, mostRows)
}

// Found implements running.Ledger.
func (l *Ledger) Found(site, host string, addresses []netip.Addr, may bool) {
	switch {
	case !may:
		l.note(site, row{host: host}, func(o *records.Outgoing) { o.Count, o.Refused = o.Count+1, o.Refused+1 })
	case len(addresses) == 0:
		l.note(site, row{host: host}, func(o *records.Outgoing) { o.Count, o.Failed = o.Count+1, o.Failed+1 })
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	s := l.sheet(site)
	for _, address := range addresses {
		if s.names[address] == nil && len(s.names) >= mostNames {
			clear(s.names) // what is asked for is looked up again
		}
		known := slices.DeleteFunc(s.names[address], func(name string) bool { return name == host })
		s.names[address] = append(known, host)[max(0, len(known)+1-namesOfOne):]
	}
}

// Hosts implements running.Ledger: the last is the one that was looked up last.
func (l *Ledger) Hosts(site string, address netip.Addr) []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.Clone(l.sheet(site).names[address.Unmap()])
}

// Asked implements running.Ledger.
func (l *Ledger) Asked(site string, to netip.AddrPort, fate running.Fate) (ended func(took time.Duration, fault error)) {
	at := row{address: to.Addr().Unmap().String(), port: int(to.Port())}
	if hosts := l.Hosts(site, to.Addr()); len(hosts) > 0 {
		at.host = hosts[len(hosts)-1]
	}
	l.note(site, at, func(o *records.Outgoing) {
		o.Count++
		switch fate {
		case running.Through:
		case running.Refused:
			o.Refused++
		case running.Caught:
			o.Caught++
		}
	})
	return func(took time.Duration, fault error) {
		l.note(site, at, func(o *records.Outgoing) {
			if fault != nil {
				o.Failed++
			} else {
				o.Milliseconds += max(1, took.Milliseconds())
			}
		})
	}
}

// Watch shows what a site asks until done is called, which tells it.
func (l *Ledger) Watch(site string) (done func() []records.Outgoing) {
	l.mu.Lock()
	defer l.mu.Unlock()
	w := &watcher{seen: map[row]*records.Outgoing{}}
	l.sheet(site).watchers[w] = true
	return func() []records.Outgoing {
		l.mu.Lock()
		defer l.mu.Unlock()
		delete(l.sheet(site).watchers, w)
		return taken(w.seen)
	}
}

func taken(rows map[row]*records.Outgoing) []records.Outgoing {
	all := make([]records.Outgoing, 0, len(rows))
	for _, o := range rows {
		all = append(all, *o)
	}
	slices.SortFunc(all, func(a, b records.Outgoing) int {
		if c := strings.Compare(a.Host, b.Host); c != 0 {
			return c
		}
		if c := strings.Compare(a.Address, b.Address); c != 0 {
			return c
		}
		return a.Port - b.Port
	})
	return all
}

// write has recorded what was asked since it was done last. known tells whether there is such a site still.
func (l *Ledger) write(known func(site string) bool, record func([]records.Outgoing) error) error {
	l.mu.Lock()
	all, from := []records.Outgoing{}, map[string]map[row]*records.Outgoing{}
	for name, s := range l.sheets {
		switch {
		case !known(name):
			delete(l.sheets, name)
		case len(s.rows) > 0:
			all, from[name] = append(all, taken(s.rows)...), s.rows
			s.rows = map[row]*records.Outgoing{}
		}
	}
	l.mu.Unlock()
	if len(all) == 0 {
		return nil
	}
	err := record(all)
	if err != nil {
		l.putBack(from)
	}
	return err
}

// putBack keeps what could not be written for the next time, as far as there is room.
func (l *Ledger) putBack(from map[string]map[row]*records.Outgoing) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for name, rows := range from {
		s := l.sheet(name)
		for at, o := range rows {
			if now := s.rows[at]; now != nil {
				o.Count, o.Refused, o.Failed, o.Caught = o.Count+now.Count, o.Refused+now.Refused, o.Failed+now.Failed, o.Caught+now.Caught
				o.Milliseconds, o.LastAt = o.Milliseconds+now.Milliseconds, now.LastAt
			} else if len(s.rows) >= mostRows {
				continue
			}
			s.rows[at] = o
		}
	}
}
