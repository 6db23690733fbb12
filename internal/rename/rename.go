// Package rename gives sites other names and domains.
package rename

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"vessik/internal/change"
	"vessik/internal/cms"
	"vessik/internal/core/plan"
	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/facts"
	"vessik/internal/operation"
	"vessik/internal/ownfile"
)

// Kind is that of such a change, Move its step that moves everything that bears a site's name.
const (
	Kind plan.Kind = "readdress"
	Move plan.Step = "rename"
)

// moving notes that what bears the name is being moved.
const moving = "moving"

// Feature renames sites.
type Feature struct {
	Changer *change.Changer
	Facts   *facts.Facts
	// Finds tells whether a domain leads to this machine, Keeps whether the service sees to that.
	Finds func(domain string) bool
	Keeps func() bool
}

// Kind is how a site is re-addressed and renamed.
func (f *Feature) Kind() operation.Kind {
	c := f.Changer
	return c.Kind(Kind, f.moveBack, nil, c.FetchStep(), c.BaselineStep(), c.PointStep(),
		change.Do(change.ReplaceContent, "replacing the database", f.readdress), c.SwitchStep(), c.ProveStep(), c.SettleStep(nil),
		change.Do(Move, "renaming", f.rename))
}

// moveBack brings everything back to the old name, and the content to the old address.
func (f *Feature) moveBack(ctx context.Context, w *operation.Part, s site.Site, p plan.Change) error {
	if change.Noted(w, Move, moving) {
		next := s
		next.Name, next.Folder = p.Rename, folderAs(s, p.Rename)
		if err := f.move(next, s); err != nil {
			return err
		}
	}
	return f.Changer.PutBack(ctx, w, s, p)
}

// readdress gives everything in a site's database and configuration its new address.
func (f *Feature) readdress(ctx context.Context, w *operation.Part, s site.Site, p plan.Change) error {
	m, next := f.Changer.Machine, s
	next.Domain, next.Folder = p.After.Domain, folderAs(s, p.Rename)
	next.HTTPS = p.After.HTTPS
	if next.Domain == s.Domain && next.Folder == s.Folder && next.HTTPS == s.HTTPS {
		return nil
	}
	if next.HTTPS { // its port will stand in the database, also of a site that is stopped
		if err := m.Book.KeepHTTPS(); err != nil {
			return err
		}
	}
	return f.Changer.Replace(ctx, w, s, func(held string) (rewrite.Tally, error) {
		tally, err := f.Changer.Refill(ctx, s, held, cms.Place{URL: m.CMSFacts(s).URL, Folder: s.Folder}, m.CMSFacts(next))
		if err != nil {
			return tally, err
		}
		return tally, m.CMS.Of(s).Redomain(s.Folder, m.CMSFacts(next))
	})
}

// judge judges a request for another name or domain. Where only a name is asked for, a domain that was derived from the old one
// follows it.
func (f *Feature) judge(name string, r wire.Rename, who string) (plan.Change, site.Problems) {
	s, ok := f.Changer.Machine.Registry.Site(name)
	if !ok {
		return plan.Change{}, site.NoSite(name)
	}
	facts, problems := f.Facts.Now(), site.Problems{}
	to := site.ASCII(r.Name)
	if to == "" {
		to = name
	}
	domain := site.ASCII(strings.ToLower(r.Domain))
	if ending, derived := strings.CutPrefix(s.Domain, name+"."); domain == "" && derived {
		domain = to + "." + ending
	} else if domain == "" {
		domain = s.Domain
	}
	next := s
	next.HTTPS = r.HTTPS == site.On || r.HTTPS == "" && s.HTTPS
	if to == name && domain == s.Domain && next.HTTPS == s.HTTPS {
		problem := site.Problem{Site: name, Field: "name", Message: "it is called so already",
			Remedy: "give another name, or another domain with -domain"}
		if r.HTTPS != "" {
			problem = site.Problem{Site: name, Field: "https", Message: "it is " + r.HTTPS + " already", Remedy: "open " + f.Changer.Machine.URL(s)}
		}
		problems = append(problems, problem)
	}
	if to != name {
		problems = append(problems, site.CheckRename(s, to, facts)...)
		if fault := f.moveFault(s, to); fault != "" {
			problems = append(problems, site.Problem{Site: name, Field: "name", Message: fault,
				Remedy: "choose another name, or move that folder away"})
		}
	}
	problems = append(problems, site.CheckSettled(s)...)
	next.Domain, next.Domains = domain, slices.DeleteFunc(slices.Clone(s.Domains), func(d string) bool { return d == domain })
	if domain != s.Domain {
		problems = append(problems, site.CheckDomains(next, r.ForceDomain, facts)...)
		if len(problems) == 0 && !r.Stay && !f.Keeps() && !f.Finds(domain) {
			problems = append(problems, site.Problem{Site: name, Field: "domain", Message: domain + " does not lead to this machine",
				Remedy: "let the service keep it in the hosts file first (vessik hosts -allow), or say -stay"})
		}
		next.Forwards = slices.DeleteFunc(slices.Clone(s.Forwards), func(f site.Forward) bool { return f.Domain == domain })
		next.Forwards = append(next.Forwards, site.Forward{Domain: s.Domain, Until: time.Now().UTC().Add(site.ForwardFor).Truncate(time.Second)})
	}
	return plan.Change{Site: name, Before: change.TargetOf(s), After: change.TargetOf(next), Rename: to, Stay: r.Stay, Who: who}, problems
}

// Rename gives a site another name or domain, and re-addresses everything in it.
func (f *Feature) Rename(ctx context.Context, name string, r wire.Rename, who string) (plan.Operation, error) {
	f.Changer.Operations.Judging.Lock()
	defer f.Changer.Operations.Judging.Unlock()
	asked, problems := f.judge(name, r, who)
	if len(problems) > 0 {
		return plan.Operation{}, problems
	}
	left := []plan.Step{}
	if asked.Rename == "" || asked.Rename == name {
		left = append(left, Move)
	}
	return f.Changer.Begin(ctx, Kind, asked, left...)
}

// Preview goes through a site's database as Rename would, and changes nothing.
func (f *Feature) Preview(ctx context.Context, name string, r wire.Rename) (rewrite.Tally, error) {
	asked, problems := f.judge(name, r, "")
	if len(problems) > 0 {
		return rewrite.Tally{}, problems
	}
	s, _ := f.Changer.Machine.Registry.Site(name)
	pool, release, err := f.Changer.Machine.Pool(ctx, s)
	if err != nil {
		return rewrite.Tally{}, err
	}
	defer release()
	reader, writer := io.Pipe()
	go func() { writer.CloseWithError(cms.Dump(ctx, pool, writer)) }()
	next := s
	next.Domain, next.HTTPS, next.Folder = asked.After.Domain, asked.After.HTTPS, folderAs(s, asked.Rename)
	readdress := rewrite.New(f.Changer.Machine.CMSFacts(s).URL, f.Changer.Machine.CMSFacts(next).URL)
	readdress.Folders(s.Folder, next.Folder)
	readdress.SubDomains = s.Network == site.NetworkDomains
	err = readdress.Dump(io.Discard, reader)
	reader.CloseWithError(err)
	return readdress.Tally(), err
}

// folderAs is where a site's folder stands under another name: a folder that is called as the site follows it.
func folderAs(s site.Site, name string) string {
	if base := filepath.Base(s.Folder); base != s.Name && base != site.Shown(s.Name) || s.Origin.Kind == site.FromFolder {
		return s.Folder
	}
	return filepath.Join(filepath.Dir(s.Folder), site.Shown(name))
}

// moveFault says why a site cannot take another name's places.
func (f *Feature) moveFault(s site.Site, name string) string {
	if to := folderAs(s, name); to != s.Folder {
		if _, err := os.Lstat(to); !errors.Is(err, fs.ErrNotExist) {
			return to + " is there already"
		}
	}
	return ""
}

// rename moves everything that bears a site's name. The records change last: before, it can be taken back.
func (f *Feature) rename(ctx context.Context, w *operation.Part, s site.Site, p plan.Change) error {
	name := p.Rename
	if fault := f.moveFault(s, name); fault != "" {
		return errors.New(fault)
	}
	ran := s.State == site.Running
	if failed := f.Changer.Machine.Withdraw(ctx, []string{s.Name}); failed[s.Name] != nil {
		return failed[s.Name]
	}
	f.Changer.Machine.StopPHP(s)
	if err := w.Note(moving); err != nil {
		return err
	}
	next := s
	next.Name, next.Folder = name, folderAs(s, name)
	if err := f.move(s, next); err != nil {
		return err
	}
	if err := f.Changer.Machine.Registry.Rename(ctx, w.ID(), s.Name,
		func(s *site.Site) { s.Name, s.Folder = next.Name, next.Folder }); err != nil {
		return err
	}
	next, _ = f.Changer.Machine.Registry.Site(name)
	w.Take(name)
	operation.Learn(w, func(p *plan.Change) {
		p.RestorePoint = strings.Replace(p.RestorePoint, f.Changer.Machine.Home.Path("restore", s.Name),
			f.Changer.Machine.Home.Path("restore", name), 1)
	})
	if !ran {
		return nil
	}
	if err := f.Changer.Machine.StartPHP(ctx, next); err != nil {
		f.Changer.Operations.Fail(name, err)
		return nil // it has its new name; why it failed is told there
	}
	if failed := f.Changer.Machine.Publish(ctx, []string{name}); failed[name] != nil {
		f.Changer.Operations.Fail(name, failed[name])
	}
	return nil
}

// move brings a site's places from one name to another; it bears that some of them have been moved.
func (f *Feature) move(from, to site.Site) error {
	pairs := [][2]string{{from.Folder, to.Folder}}
	for i, place := range f.Changer.Machine.Places(from.Name) {
		pairs = append(pairs, [2]string{place, f.Changer.Machine.Places(to.Name)[i]})
	}
	for _, pair := range pairs {
		if pair[0] == pair[1] {
			continue
		}
		if _, err := os.Lstat(pair[0]); errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if pair[0] != from.Folder {
			ownfile.RemoveAll(pair[1]) // of a site of that name that is gone
		}
		if err := ownfile.Rename(pair[0], pair[1]); err != nil {
			return fmt.Errorf("move what belongs to the site: %w", err)
		}
	}
	return nil
}
