// Package standing has copies of sites stand at relays, where they stay up when this machine is off, and brings home what guests leave
// there. Nothing of a copy is recorded here: its relay tells what stands.
package standing

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"vessik/internal/background"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/mailbox"
	"vessik/internal/operation"
	"vessik/internal/records"
	"vessik/internal/relay"
	"vessik/internal/running"
	"vessik/internal/seal"
)

// Stand is the kind of operation that sends a copy, by one step.
const (
	Stand plan.Kind = "stand"
	step  plan.Step = "stand"
)

// Feature is the standing copies of one home's sites.
type Feature struct {
	Machine    *running.Machine
	Operations *operation.Runner
	Records    *records.Records
	Mail       *mailbox.Mailbox
	// Pack writes a parcel of a site; told is told of the bytes that were read, and of all.
	Pack func(ctx context.Context, name string, asked wire.MakeParcel, to io.Writer, told func(done, all int64)) error
	// Doors are the relays at which this home has an account, by host: the one that is named, or all.
	Doors func(host string) (map[string]*relay.Door, error)

	home sync.Mutex // one at a time brings home: nothing is brought twice
}

// sending is what is asked, and what came of it.
type sending struct {
	Asked    wire.Stand   `json:"asked"`
	Password []byte       `json:"password,omitempty"` // sealed
	Result   wire.StoodUp `json:"result"`
}

// between two looks at the relays for what guests left.
const between = 5 * time.Minute

// keyOf names a site's copies: also when it has another name later, and never those of another one that has its name then.
func keyOf(s site.Site) string {
	sum := sha256.Sum256([]byte("standing copy of " + s.CreatedAt.UTC().Format(time.RFC3339Nano) + s.Database.Name))
	return hex.EncodeToString(sum[:8])
}

// Kind is how a copy is sent. The site is read alone; what came to the relay stays there for a while, and is not sent again.
func (f *Feature) Kind() operation.Kind {
	return operation.Kind{Name: Stand, Recover: plan.Always(plan.GiveUp), Again: "send it again, what came already is not carried twice",
		Show: func(payload json.RawMessage) (any, error) {
			var shown sending
			err := json.Unmarshal(payload, &shown)
			return shown.Result, err
		},
		Steps: []operation.Step{{Name: step, Title: "sending a copy to the relay", Do: func(ctx context.Context, w *operation.Part) error {
			return f.send(ctx, w)
		}}}}
}

func problem(name, field, message, remedy string) error {
	return site.Problems{{Site: name, Field: field, Message: message, Remedy: remedy}}
}

// door is the relay that is named, or the only one.
func (f *Feature) door(name, host string) (string, *relay.Door, error) {
	doors, err := f.Doors(host)
	if err != nil {
		return "", nil, err
	}
	if len(doors) != 1 {
		return "", nil, problem(name, "relay", fmt.Sprintf("this home has an account at %d relays", len(doors)), "name one: vessik relays")
	}
	for host, door := range doors {
		return host, door, nil
	}
	return "", nil, nil
}

// Begin sends a copy of a site to a relay, or brings the one that stands there up to date; the operation goes on after it returns.
func (f *Feature) Begin(ctx context.Context, name string, asked wire.Stand) (plan.Operation, error) {
	f.Operations.Judging.Lock()
	defer f.Operations.Judging.Unlock()
	s, known := f.Machine.Registry.Site(site.ASCII(name))
	if !known {
		return plan.Operation{}, site.NoSite(name)
	}
	if problems := site.CheckSettled(s); len(problems) > 0 {
		return plan.Operation{}, problems
	}
	host, _, err := f.door(s.Name, asked.Relay)
	if err != nil {
		return plan.Operation{}, err
	}
	if field, message, remedy := asked.Wrong(); field != "" {
		return plan.Operation{}, problem(s.Name, field, message, remedy)
	}
	key, err := f.key()
	if err != nil {
		return plan.Operation{}, err
	}
	asked.Relay = host
	payload := sending{Asked: asked}
	if asked.Password != "" {
		payload.Password, payload.Asked.Password = key.Seal("standing "+s.Name, []byte(asked.Password)), ""
	}
	return f.Operations.Begin(ctx, operation.Request{Kind: Stand, Payload: payload, Names: []string{s.Name},
		Steps: map[string][]plan.Step{s.Name: {step}}})
}

func (f *Feature) key() (seal.Key, error) { return f.Machine.Book.Key() }

// List are the copies at all relays, of one site where it is named.
func (f *Feature) List(ctx context.Context, name string) (wire.Standing, error) {
	standing := wire.Standing{Copies: []wire.StandingCopy{}}
	s, known := f.Machine.Registry.Site(site.ASCII(name))
	if name != "" && !known {
		return standing, site.NoSite(name)
	}
	doors, err := f.Doors("")
	if err != nil { // at no relay
		return standing, nil
	}
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	var mu sync.Mutex
	var asking sync.WaitGroup
	for host, door := range doors {
		asking.Go(func() {
			var all []wire.StandingCopy
			err := door.JSON(ctx, "GET", "", nil, &all)
			mu.Lock()
			defer mu.Unlock()
			if errors.Is(err, relay.ErrNoCopies) {
				return
			}
			if err != nil {
				if standing.Unreached == nil {
					standing.Unreached = map[string]string{}
				}
				standing.Unreached[host] = err.Error()
				return
			}
			for _, each := range all {
				if each.Relay = host; !strings.HasPrefix(each.Address, "https://") {
					each.Address = "" // it becomes a link
				}
				each.Site = plain(each.Site)
				if now, here := f.siteOf(each.Key); here {
					each.Site = now.Name
				}
				if name == "" || each.Key == keyOf(s) {
					standing.Copies = append(standing.Copies, each)
				}
			}
		})
	}
	asking.Wait()
	slices.SortFunc(standing.Copies, func(a, b wire.StandingCopy) int { return b.MadeAt.Compare(a.MadeAt) })
	return standing, nil
}

// plain is a site's name as a relay tells it, without what is in no name: people copy it into commands.
func plain(name string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			return r
		}
		return '-'
	}, name)
}

// siteOf is the site that a copy is of.
func (f *Feature) siteOf(key string) (site.Site, bool) {
	for _, s := range f.Machine.Registry.All() {
		if keyOf(s) == key {
			return s, true
		}
	}
	return site.Site{}, false
}

// chosen is the copy of a site, or one whose key is named: its site may be gone.
func (f *Feature) chosen(ctx context.Context, name, host string) (wire.StandingCopy, *relay.Door, error) {
	if s, known := f.Machine.Registry.Site(site.ASCII(name)); known {
		name = keyOf(s)
	}
	standing, err := f.List(ctx, "")
	if err != nil {
		return wire.StandingCopy{}, nil, err
	}
	found := slices.DeleteFunc(standing.Copies, func(c wire.StandingCopy) bool {
		return c.Key != name && c.Site != name || host != "" && c.Relay != host
	})
	switch {
	case len(found) == 0 && len(standing.Unreached) > 0:
		for host, why := range standing.Unreached {
			return wire.StandingCopy{}, nil, problem("", "relay", host+" does not tell what stands there: "+why,
				"see whether it runs: vessik relays")
		}
	case len(found) == 0:
		return wire.StandingCopy{}, nil, problem("", "name", fmt.Sprintf("no copy of %q stands anywhere", name),
			"see those that do: vessik standing")
	case len(found) > 1:
		return wire.StandingCopy{}, nil, problem("", "relay", "it stands at several relays", "name one: vessik standing")
	}
	doors, err := f.Doors(found[0].Relay)
	if err != nil {
		return wire.StandingCopy{}, nil, err
	}
	return found[0], doors[found[0].Relay], nil
}

// End ends a copy: what guests left comes home first.
func (f *Feature) End(ctx context.Context, name, host string) error {
	c, door, err := f.chosen(ctx, name, host)
	if err != nil {
		return err
	}
	return f.end(ctx, c, door)
}

func (f *Feature) end(ctx context.Context, c wire.StandingCopy, door *relay.Door) error {
	s, here := f.siteOf(c.Key)
	if here {
		err := f.bringMail(ctx, s, c, door)
		if err == nil {
			err = f.bringRemarks(ctx, s, c, door)
		}
		if err != nil {
			return fmt.Errorf("bring home what guests left: %w", err)
		}
	}
	if err := door.JSON(ctx, "DELETE", c.Key, nil, nil); err != nil {
		return problem(c.Site, "relay", c.Relay+" does not end it: "+err.Error(), "try again in a moment")
	}
	if here {
		f.Machine.Registry.Announce(s.Name)
	}
	return nil
}

// Remarks are those that guests left at a copy.
func (f *Feature) Remarks(ctx context.Context, name, host string) (all []wire.Remark, err error) {
	c, door, err := f.chosen(ctx, name, host)
	if err == nil {
		all, err = f.remarks(ctx, c, door)
	}
	return all, err
}

func (f *Feature) remarks(ctx context.Context, c wire.StandingCopy, door *relay.Door) ([]wire.Remark, error) {
	all := []wire.Remark{}
	err := door.JSON(ctx, "GET", c.Key+"/remarks", nil, &all)
	for i := range all {
		all[i].Site = c.Site
	}
	return all, err
}

// Reply answers a remark at a copy.
func (f *Feature) Reply(ctx context.Context, name, host string, id int64, said wire.ReplyTo) (changed wire.Remark, err error) {
	c, door, err := f.chosen(ctx, name, host)
	if err != nil {
		return changed, err
	}
	err = door.JSON(ctx, "POST", fmt.Sprintf("%s/remarks/%d", c.Key, id), said, &changed)
	if err != nil {
		return changed, problem(c.Site, "id", err.Error(), "see them with: vessik remarks "+c.Site+" -copy")
	}
	changed.Site = c.Site
	return changed, nil
}

// LookAfter brings home what guests left, again and again until the service ends, and ends what is over.
func (f *Feature) LookAfter() {
	ctx := f.Machine.Work.Context()
	background.Every(ctx, between, func() {
		if err := f.BringHome(ctx); err != nil && ctx.Err() == nil {
			f.Machine.Log.Warn("bring home what guests left at standing copies", "reason", err)
		}
	})
}

// BringHome fetches the mail that the copies caught, and ends those whose time is over.
func (f *Feature) BringHome(ctx context.Context) error {
	standing, err := f.List(ctx, "")
	for _, c := range standing.Copies {
		doors, missing := f.Doors(c.Relay)
		s, here := f.siteOf(c.Key)
		switch {
		case missing != nil || !here:
		case c.State == wire.CopyOver && c.Why == "": // another's maker is to read why
			err = errors.Join(err, f.end(ctx, c, doors[c.Relay]))
		case c.Mails > 0:
			err = errors.Join(err, f.bringMail(ctx, s, c, doors[c.Relay]))
		}
	}
	return err
}
