// Package invite lends running sites addresses for guests: by a relay, or in the local network. Invitations end by time, by hand, with
// their site and with the service; nothing of them is recorded but who asked what.
package invite

import (
	"context"
	"crypto/rand"
	"fmt"
	"maps"
	"net/http"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"vessik/internal/background"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/guest"
	"vessik/internal/records"
	"vessik/internal/running"
	"vessik/internal/safefile"
)

// Feature is the invitations of one home.
type Feature struct {
	Machine *running.Machine
	Records *records.Records
	Guests  *guest.Guests
	// Pass hands a guest's request to a site.
	Pass func(w http.ResponseWriter, r *http.Request, s site.Site)

	inviting sync.Mutex // held while an address is lent: no label is lent twice
	asking   sync.Mutex // of the files of who asked what
	mu       sync.Mutex
	relays   map[string]*joined // by host
	open     map[string]*opened // by id
}

// opened is an invitation that stands.
type opened struct {
	guest.Invitation
	note, who         string
	made              time.Time
	identity          time.Time // of its site, by when that was made
	relay             *joined   // nil in the local network
	labels            []string  // that the relay lent
	lan               *local    // nil by a relay
	requests, refused int
}

const (
	usually  = 3 * time.Hour
	mostOpen = 100
)

// New is the feature of a machine.
func New(m *running.Machine, kept *records.Records) *Feature {
	f := &Feature{Machine: m, Records: kept, relays: map[string]*joined{}, open: map[string]*opened{}}
	f.Guests = guest.New(sites{f}, m.Log)
	f.Guests.Note = f.noted
	return f
}

// sites is what guests' addresses know of the sites.
type sites struct{ of *Feature }

func (s sites) Site(name string) (site.Site, bool) { return s.of.Machine.Registry.Site(name) }
func (s sites) Gateway() site.Gateway              { return s.of.Machine.Gateway() }
func (s sites) Spool() string                      { return s.of.Machine.Home.Path("tmp") }
func (s sites) Pass(w http.ResponseWriter, r *http.Request, to site.Site) {
	s.of.Pass(w, r, to)
}

// served are the endings of files that browsers load for a page, and that no CMS makes pages of.
var served = []string{".css", ".js", ".mjs", ".map", ".png", ".jpg", ".jpeg", ".gif", ".webp", ".avif", ".svg", ".ico", ".woff",
	".woff2", ".ttf",
	".otf", ".mp4", ".webm", ".mp3", ".ogg"}

// IsFile tells whether an address is that of a file which is there, and which the web server hands out as it is.
func (s sites) IsFile(of site.Site, address string) bool {
	if !slices.Contains(served, strings.ToLower(path.Ext(address))) || strings.Contains(address, "/.") {
		return false
	}
	file, err := safefile.Open(of.Folder, strings.TrimPrefix(path.Join("/", of.Root, address), "/")) // a regular one
	if err == nil {
		file.Close()
	}
	return err == nil
}

// Invite lends a site an address.
func (f *Feature) Invite(ctx context.Context, name string, asked wire.Invite, who string) (wire.Invitation, error) {
	s, known := f.Machine.Registry.Site(site.ASCII(name))
	if !known {
		return wire.Invitation{}, site.NoSite(name)
	}
	f.inviting.Lock()
	defer f.inviting.Unlock()
	o, err := f.judge(s, asked)
	if err != nil {
		return wire.Invitation{}, err
	}
	o.who = who
	if asked.LAN != "" {
		err = f.lendLocally(s, o, asked.LAN)
	} else {
		err = f.lend(ctx, s, o, asked)
	}
	if err != nil {
		return wire.Invitation{}, err
	}
	f.Guests.Invite(o.Invitation)
	f.mu.Lock()
	f.open[o.ID] = o
	f.mu.Unlock()
	f.Machine.Registry.Announce(s.Name)
	return f.shown(o, true), nil
}

// judge says what is wrong with an invitation.
func (f *Feature) judge(s site.Site, asked wire.Invite) (*opened, error) {
	var problems site.Problems
	wrong := func(field, message, remedy string) {
		problems = append(problems, site.Problem{Site: s.Name, Field: field, Message: message, Remedy: remedy})
	}
	if s.State != site.Running {
		wrong("name", fmt.Sprintf("%s is %s, and guests would see nothing", s.Name, s.State), "start it first: vessik start "+s.Name)
	}
	if field, message, remedy := asked.Wrong(); field != "" {
		wrong(field, message, remedy)
	}
	f.mu.Lock()
	for _, o := range f.open {
		if asked.Label != "" && slices.Contains(o.labels, strings.ToLower(asked.Label)) {
			wrong("label", fmt.Sprintf("an invitation to %s by it stands already", o.Site), "end that one first: vessik invites -end "+o.ID)
		}
	}
	f.mu.Unlock()
	if asked.LAN != "" && (asked.Relay != "" || asked.Label != "") {
		wrong("lan", "is for the local network, without a relay", "leave -relay and -label out")
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if len(f.open) >= mostOpen {
		wrong("name", fmt.Sprintf("%d invitations stand", len(f.open)), "end some first: vessik invites")
	}
	if len(problems) > 0 {
		return nil, problems
	}
	until := time.Duration(asked.Seconds) * time.Second
	if until == 0 {
		until = usually
	}
	now := time.Now().UTC()
	o := &opened{note: asked.Note, made: now.Truncate(time.Second), identity: s.CreatedAt, Invitation: guest.Invitation{
		ID: strings.ToLower(rand.Text())[:8], Site: s.Name, Bases: map[string]string{}, Until: now.Add(until).Truncate(time.Second),
		Password: asked.Password, Only: asked.Only, ReadOnly: asked.ReadOnly, NoSignIn: asked.NoSignIn, Remarks: asked.Remarks,
		Shut: f.Machine.CMS.Of(s).SignInPaths()}}
	if asked.Password == "" && !asked.Open {
		o.Password = password()
	}
	return o, nil
}

// password is one that can be told by telephone, and typed on one: of 60 bits.
func password() string {
	text := strings.ToLower(rand.Text())[:12]
	return text[:4] + "-" + text[4:8] + "-" + text[8:]
}

// lend gets addresses at a relay: one for the site, and one for each sub-site that has a domain of its own.
func (f *Feature) lend(ctx context.Context, s site.Site, o *opened, asked wire.Invite) error {
	j, err := f.chosen(asked.Relay)
	if err != nil {
		return err
	}
	domains := s.Hosts()
	if s.Network == site.NetworkDomains {
		if _, err := f.Machine.LearnSubSites(ctx, s); err != nil {
			return err
		}
		s, _ = f.Machine.Registry.Site(s.Name)
		for _, sub := range s.SubSites {
			domains = append(domains, sub+"."+s.Domain)
		}
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	o.relay = j
	for i, domain := range domains {
		label := ""
		if i == 0 {
			label = strings.ToLower(asked.Label)
		}
		label, base, err := j.line.Lend(ctx, label)
		if err != nil {
			f.giveBack(o)
			if ctx.Err() != nil {
				return problem("relay", "the line to "+j.Host+" does not stand", "see why: vessik relays")
			}
			return problem("relay", j.Host+" lends no address: "+err.Error(), "end an invitation, or choose another relay or label")
		}
		o.labels = append(o.labels, label)
		o.Bases[domain] = base
	}
	return nil
}

// chosen is the relay that is named, or the only one.
func (f *Feature) chosen(host string) (*joined, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	switch {
	case len(f.relays) == 0:
		return nil, problem("relay", "this home has an account at no relay", "join one: vessik relays join https://HOST -token TOKEN; or "+
			"show the "+
			"site in the local network: -lan ADDRESS")
	case host == "" && len(f.relays) > 1:
		return nil, problem("relay", "this home has an account at several: "+strings.Join(slices.Sorted(maps.Keys(f.relays)), ", "), "name one")
	}
	for each, j := range f.relays {
		if host == "" || host == each || host == j.URL {
			return j, nil
		}
	}
	return nil, problem("relay", fmt.Sprintf("this home has no account at %q", host), "see where it has: vessik relays")
}

// giveBack ends what was lent for an invitation.
func (f *Feature) giveBack(o *opened) {
	if o.lan != nil {
		o.lan.close()
	}
	if o.relay == nil || f.Machine.Work.Ending() { // the line says by itself that all ends
		return
	}
	ctx, cancel := context.WithTimeout(f.Machine.Work.Context(), 5*time.Second)
	defer cancel()
	for _, label := range o.labels {
		if err := o.relay.line.GiveBack(ctx, label); err != nil {
			f.Machine.Log.Warn("give an address back to a relay", "reason", err)
		}
	}
}

// End ends an invitation.
func (f *Feature) End(id string) error {
	if f.endWhere(func(o *opened) bool { return o.ID == id }) == 0 {
		return problem("id", fmt.Sprintf("there is no invitation %q", id), "see those that stand: vessik invites")
	}
	return nil
}

// endWhere ends some invitations, and tells how many.
func (f *Feature) endWhere(which func(*opened) bool) int {
	f.mu.Lock()
	ended := []*opened{}
	for id, o := range f.open {
		if which(o) {
			ended = append(ended, o)
			delete(f.open, id)
		}
	}
	f.mu.Unlock()
	for _, o := range ended {
		f.Guests.End(o.Invitation)
		f.giveBack(o)
		f.Machine.Registry.Announce(o.Site)
	}
	return len(ended)
}

// List are the invitations that stand, of one site where it is named; the newest first.
func (f *Feature) List(name string) []wire.Invitation {
	f.mu.Lock()
	found := []*opened{}
	for _, o := range f.open {
		if name == "" || o.Site == site.ASCII(name) {
			found = append(found, o)
		}
	}
	f.mu.Unlock()
	slices.SortFunc(found, func(a, b *opened) int { return b.made.Compare(a.made) })
	all := []wire.Invitation{}
	for _, o := range found {
		all = append(all, f.shown(o, false))
	}
	return all
}

// One is an invitation, with its password.
func (f *Feature) One(id string) (wire.Invitation, error) {
	f.mu.Lock()
	o := f.open[id]
	f.mu.Unlock()
	if o == nil {
		return wire.Invitation{}, problem("id", fmt.Sprintf("there is no invitation %q", id), "see those that stand: vessik invites")
	}
	return f.shown(o, true), nil
}

// shown is what is told of an invitation.
func (f *Feature) shown(o *opened, whole bool) wire.Invitation {
	s, _ := f.Machine.Registry.Site(o.Site)
	w := wire.Invitation{ID: o.ID, Site: o.Site, Address: o.Bases[s.Domain] + "/", Until: o.Until, MadeAt: o.made, Who: o.who,
		Asks: o.Password != "", Only: o.Only, ReadOnly: o.ReadOnly, NoSignIn: o.NoSignIn, Remarks: o.Remarks, Note: o.note,
		Guests: f.Guests.Count(o.Invitation), Reached: o.lan != nil}
	if o.Only != "" {
		w.Address = o.Bases[s.Domain] + o.Only
	}
	for domain, base := range o.Bases {
		if domain == s.Domain {
			continue
		}
		if w.Others == nil {
			w.Others = map[string]string{}
		}
		w.Others[domain] = base + "/"
	}
	if o.relay != nil {
		w.Relay, w.Reached = o.relay.Host, o.relay.line.Stands()
	}
	if o.lan != nil {
		w.Fingerprint = o.lan.fingerprint
	}
	if whole {
		w.Password = o.Password
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	w.Requests, w.Refused = o.requests, o.refused
	return w
}

// LookAfter joins the relays, and ends what is over, until the service ends.
func (f *Feature) LookAfter() {
	ctx := f.Machine.Work.Context()
	all, err := f.Records.Relays(ctx)
	if err != nil && ctx.Err() == nil {
		f.Machine.Log.Error("read the relays", "reason", err)
	}
	for _, r := range all {
		f.connect(r)
	}
	background.Every(ctx, time.Second, func() {
		now := time.Now()
		f.endWhere(func(o *opened) bool {
			s, known := f.Machine.Registry.Site(o.Site)
			return !now.Before(o.Until) || !known || !s.CreatedAt.Equal(o.identity) || o.Bases[s.Domain] == "" && o.lan == nil
		})
	})
	f.endWhere(func(*opened) bool { return true })
}
