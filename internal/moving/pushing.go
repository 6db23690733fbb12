package moving

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"vessik/internal/cms"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/hosting"
	"vessik/internal/operation"
	"vessik/internal/ownfile"
	"vessik/internal/records"
	"vessik/internal/safefile"
)

// Push is the kind of operation that brings a site to a hosting account; its part is the account.
const (
	Push     plan.Kind = "push-account"
	cmpStep  plan.Step = "push-compare"
	putStep  plan.Step = "push-carry"
	turnStep plan.Step = "push-turn"
	seeStep  plan.Step = "push-prove"
	endStep  plan.Step = "push-settle"
)

// pushing is what is asked, and what came of it.
type pushing struct {
	Asked  wire.Push    `json:"asked"`
	Back   bool         `json:"back,omitempty"` // the last push is taken back
	Result *wire.Pushed `json:"result,omitempty"`
}

// PushKind is how a site is pushed: beside what is there, then in its place at once, and back where the live site answers worse.
func (f *Feature) PushKind() operation.Kind {
	step := func(name plan.Step, title string, do func(ctx context.Context, w *operation.Part, account string,
		asked pushing) error) operation.Step {
		return operation.Step{Name: name, Title: title, Do: func(ctx context.Context, w *operation.Part) error {
			asked, err := operation.Payload[pushing](w)
			if err != nil {
				return err
			}
			return do(ctx, w, accountOf(w.Name), asked)
		}}
	}
	carry, turn := step(putStep, "carrying to the host", f.putBeside), step(turnStep, "putting it in the place of what is there", f.turn)
	carry.Undo = func(ctx context.Context, w *operation.Part, _ string) error {
		return f.unstage(ctx, accountOf(w.Name), "")
	}
	turn.Undo = carry.Undo // what was turned is turned back, and what lies beside is removed: each bears that the other did it
	return operation.Kind{Name: Push, Other: true, OnFailure: operation.TakeBack, Again: "push it again", Show: operation.ShowAs[pushing],
		Recover: func(journal []plan.Entry) plan.Recovery {
			for _, entry := range journal {
				if entry.Step == endStep && entry.State != plan.Pending {
					return plan.Resume
				}
			}
			return plan.TakeBack
		},
		Steps: []operation.Step{step(cmpStep, "comparing with the host", f.doCompare), carry, turn,
			step(seeStep, "asking the live site", f.see), step(endStep, "clearing up at the host", f.settle)}}
}

// BeginPush pushes a site, or tells what would be pushed; the operation goes on after it returns.
func (f *Feature) BeginPush(ctx context.Context, account string, asked wire.Push) (plan.Operation, error) {
	f.Operations.Judging.Lock()
	defer f.Operations.Judging.Unlock()
	asked.Site = site.ASCII(asked.Site)
	s, ok := f.Machine.Registry.Site(asked.Site)
	if !ok {
		return plan.Operation{}, site.NoSite(asked.Site)
	}
	if problems := site.CheckSettled(s); len(problems) > 0 {
		return plan.Operation{}, problems
	}
	steps := []plan.Step{cmpStep, putStep, turnStep, seeStep, endStep}
	if asked.DryRun {
		steps = steps[:1]
	}
	return f.beginPush(ctx, account, pushing{Asked: asked}, steps)
}

// BeginBack takes the last push to an account back, where overwrite is said also what was changed at the host since; the operation goes on
// after it returns.
func (f *Feature) BeginBack(ctx context.Context, account string, overwrite bool) (plan.Operation, error) {
	f.Operations.Judging.Lock()
	defer f.Operations.Judging.Unlock()
	if _, err := f.account(ctx, account); err != nil {
		return plan.Operation{}, err
	}
	undo, err := readPlan(f.mirror(account).undoing("plan.json"))
	if err != nil {
		return plan.Operation{}, site.Problems{{Field: "back", Message: "nothing was pushed to " + account + " that could be taken back",
			Remedy: "see what was with: vessik operations"}}
	}
	return f.beginPush(ctx, account, pushing{Asked: wire.Push{Site: undo.Said.Site, Overwrite: overwrite}, Back: true},
		[]plan.Step{cmpStep, putStep, turnStep, seeStep, endStep})
}

func (f *Feature) beginPush(ctx context.Context, account string, asked pushing, steps []plan.Step) (plan.Operation, error) {
	a, err := f.account(ctx, account)
	if err != nil {
		return plan.Operation{}, err
	}
	if a.Stage != "" {
		return plan.Operation{}, site.Problems{{Field: "account", Message: "what an earlier push left at " + account + " is not cleared up yet",
			Remedy: "it is, as soon as the host answers; see: vessik hosting check " + account}}
	}
	return f.Operations.Begin(ctx, operation.Request{Kind: Push, Payload: asked, Names: []string{part(account)},
		Steps: map[string][]plan.Step{part(account): steps}})
}

// doCompare plans a push, or what takes the last one back. Where both sides were changed nothing is done, unless that was asked for.
func (f *Feature) doCompare(ctx context.Context, w *operation.Part, account string, asked pushing) error {
	var err error
	if w.Wait(func() { err = f.settled(ctx, account) }); err != nil {
		return err
	}
	if asked.Back {
		return f.with(ctx, w, account, func(v *visit) error { return f.planBack(ctx, w, v, asked.Asked.Overwrite) })
	}
	return f.with(ctx, w, account, func(v *visit) error {
		preview, err := f.comparePush(ctx, w, v, asked.Asked)
		if err != nil {
			return err
		}
		operation.Learn(w, func(p *pushing) { p.Result = preview })
		if asked.Asked.DryRun || preview.Conflicts == 0 || asked.Asked.Overwrite {
			return nil
		}
		return fmt.Errorf("%d files and tables were changed here and at the host since the last move; look with -dry-run, and then keep the "+
			"host's with -keep, or say -overwrite", preview.Conflicts)
	})
}

// putBeside carries what is pushed into a stage at the host: beside what is there, which nobody sees.
func (f *Feature) putBeside(ctx context.Context, w *operation.Part, account string, _ pushing) error {
	m := f.mirror(account)
	p, err := readPlan(m.pushing("plan.json"))
	if err != nil {
		return err
	}
	if len(p.Put)+len(p.Gone)+len(p.Tables) == 0 {
		return nil
	}
	if !p.Undo {
		if err := f.keepUndo(m, p); err != nil {
			return err
		}
	}
	return f.with(ctx, w, account, func(v *visit) error {
		p.Stage = hosting.StageName()
		if err := writeJSON(m.pushing("plan.json"), p); err != nil {
			return err
		}
		if err := f.edit(ctx, account, func(a *records.Account) { a.Stage, a.Turned = p.Stage, false }); err != nil {
			return err
		}
		if err := v.upload(ctx, w, p); err != nil {
			return told(v.account, err)
		}
		if len(p.Tables) == 0 {
			return nil
		}
		k, c := f.behind(p)
		size := ownfile.Size(p.Dump)
		return v.helper.Load(ctx, c, k, p.Prefix, p.Turn, func(bytes int64) {
			w.Progress("loading the database beside the host's", min(float64(bytes)/float64(max(size, 1)), 1))
		})
	})
}

// behind is what a helper must know of the CMS that stands at a host.
func (f *Feature) behind(p planned) (*cms.Definition, hosting.Configuration) {
	k := f.Machine.CMS.Definitions()[p.CMS]
	if k == nil { // its definition was removed meanwhile
		k = &cms.Definition{}
	}
	return k, hosting.ConfigurationOf(k)
}

// upload carries files and the dump into a stage.
func (v *visit) upload(ctx context.Context, w *operation.Part, p planned) error {
	folders, known := queue[string]{items: []string{""}}, map[string]bool{".": true}
	for _, each := range p.Put {
		if folder := path.Dir(each); !known[folder] {
			known[folder] = true
			folders.back("/" + folder)
		}
	}
	up := &uploading{queue: queue[string]{items: slices.Clone(p.Put)}, v: v, p: p, carried: carried{tell: func(done int64) {
		w.Progress("carrying files", min(float64(done)/float64(max(p.Said.Bytes, 1)), 1))
	}}}
	if len(p.Tables) > 0 {
		up.back(dumpName)
	}
	return v.insist(ctx, w, &up.bytes, func() error {
		for folder, ok := folders.next(); ok; folder, ok = folders.next() {
			if err := v.line.MakeFolder(ctx, p.Stage+"/new"+folder); err != nil {
				folders.back(folder)
				return err
			}
			up.bytes.Add(1) // it gets on
		}
		if err := v.line.Write(ctx, p.Stage+"/.htaccess", strings.NewReader("Require all denied\nDeny from all\n")); err != nil {
			return err
		}
		return up.some(ctx)
	})
}

// dumpName stands for the dump among the files that are uploaded: no file of a site is called so.
const dumpName = "\x00dump"

type uploading struct {
	queue[string]
	carried
	v *visit
	p planned
}

// some uploads until all is there, or something fails.
func (u *uploading) some(ctx context.Context) error {
	group, ctx := errgroup.WithContext(ctx)
	for range u.v.line.Parallel() {
		group.Go(func() error {
			for name, ok := u.next(); ok; name, ok = u.next() {
				if err := u.one(ctx, name); err != nil {
					u.back(name)
					return err
				}
			}
			return nil
		})
	}
	return group.Wait()
}

func (u *uploading) one(ctx context.Context, name string) error {
	var from io.ReadCloser
	var err error
	to := u.p.Stage + "/new/" + name
	if name == dumpName {
		from, err = ownfile.Open(u.p.Dump)
		to = u.p.Stage + "/database.sql"
	} else {
		from, err = safefile.Open(u.p.Folder, filepath.FromSlash(name))
	}
	if err != nil {
		return err
	}
	defer from.Close()
	return u.v.line.Write(ctx, to, io.TeeReader(from, u.watched()))
}

// turn puts what lies in the stage in the place of what is there, in one request where the host gives it time.
func (f *Feature) turn(ctx context.Context, w *operation.Part, account string, _ pushing) error {
	p, err := readPlan(f.mirror(account).pushing("plan.json"))
	if err != nil || p.Stage == "" {
		return err
	}
	return f.with(ctx, w, account, func(v *visit) error {
		k, c := f.behind(p)
		w.Progress("putting it in the place of what is there", -1)
		return v.helper.Turn(ctx, c, k, p.Prefix, p.Turn)
	})
}

// see asks the live site; where it answers worse than before it goes back.
func (f *Feature) see(ctx context.Context, w *operation.Part, account string, asked pushing) error {
	p, err := readPlan(f.mirror(account).pushing("plan.json"))
	if err != nil || p.Stage == "" {
		return err
	}
	return f.with(ctx, w, account, func(v *visit) error {
		status, why := v.front(ctx)
		isWorse := worse(p.Before, status)
		if len(p.Pages) > 0 && !isWorse {
			found := worsePages(p.Pages, v.through(ctx, w, slices.Sorted(maps.Keys(p.Pages))))
			operation.Learn(w, func(of *pushing) {
				if of.Result != nil {
					of.Result.Pages, of.Result.PagesWorse = len(p.Pages), found
				}
			})
			if isWorse = len(found) > 0; isWorse {
				why = fmt.Sprintf("%s %s", found[0].Path, found[0].Why)
				if len(found) > 1 {
					why += fmt.Sprintf(", and %d more pages", len(found)-1)
				}
			}
		}
		if !isWorse || asked.Asked.Stay {
			return nil
		}
		operation.Learn(w, func(p *pushing) {
			if p.Result != nil {
				p.Result.WentBack, p.Result.Why = true, why
			}
		})
		return fmt.Errorf("the live site answers worse than before: %s", why)
	})
}

// worse tells whether a front page answers worse than before, by its status; 0 is no answer.
func worse(before, now int) bool {
	return now != http.StatusOK && (before == http.StatusOK || before == 0 && now != 0)
}

// settle removes at the host what was there before, and remembers that both sides are the same now.
func (f *Feature) settle(ctx context.Context, w *operation.Part, account string, asked pushing) error {
	m := f.mirror(account)
	p, err := readPlan(m.pushing("plan.json"))
	if err != nil {
		return err
	}
	if p.Stage != "" {
		if err := f.edit(ctx, account, func(a *records.Account) { a.Turned = a.Stage != "" }); err != nil {
			return err
		}
	}
	var fetched *wire.Fetched
	if err := f.with(ctx, w, account, func(v *visit) (err error) {
		if err := v.unstage(ctx); err != nil {
			return err
		}
		pushed := &source{folder: p.Folder, paths: map[string]bool{}}
		for _, each := range p.Put {
			pushed.paths[each] = true
		}
		fetched, _, err = f.fetchBy(ctx, w, v, wire.Fetch{Without: p.Without, Mask: !asked.Asked.People && m.fetched() != nil &&
			m.fetched().Masked}, pushed)
		return err
	}); err != nil {
		return err
	}
	if p.Undo {
		if err := ownfile.RemoveAll(m.baseFile()); err != nil {
			return err
		}
		if was := m.undoing("base.json"); ownfile.IsThere(was) {
			if err := ownfile.Rename(was, m.baseFile()); err != nil {
				return err
			}
		}
		return errors.Join(ownfile.RemoveAll(m.undoing()), ownfile.RemoveAll(m.pushing()))
	}
	if err := f.remember(ctx, m, asked.Asked.Site, fetched.At, append([]string{}, p.Tables...)); err != nil {
		return err
	}
	if err := f.offerUndo(m); err != nil {
		return err
	}
	return ownfile.RemoveAll(m.pushing())
}

// unstage removes what lies of ours at the host: what was turned for good is cleared up, anything else is taken back.
func (v *visit) unstage(ctx context.Context) error {
	a, err := v.feature.account(ctx, v.account.Name)
	if err != nil || a.Stage == "" {
		return err
	}
	p, err := readPlan(v.feature.mirror(a.Name).pushing("plan.json"))
	if err != nil || p.Stage != a.Stage { // tables may lie beside the site's, too
		at, err := v.feature.look(ctx, v)
		if err != nil {
			return err
		}
		p = planned{Turn: hosting.Turn{Stage: a.Stage, Tables: []string{""}}, CMS: at.cms.Name}
	}
	k, c := v.feature.behind(p)
	if a.Turned {
		err = v.helper.Clear(ctx, c, k, p.Turn)
	} else {
		err = v.helper.Back(ctx, c, k, p.Turn)
	}
	if err != nil {
		return err
	}
	return v.feature.edit(ctx, a.Name, func(a *records.Account) { a.Stage, a.Turned = "", false })
}

// unstage is that by a visit of its own, of one stage where it is named. It bears that nothing is there.
func (f *Feature) unstage(ctx context.Context, account, stage string) error {
	a, err := f.account(ctx, account)
	if err != nil || a.Stage == "" || stage != "" && a.Stage != stage {
		return err
	}
	v, err := f.visiting(ctx, account)
	if err != nil {
		return err
	}
	if err := v.layHelper(ctx); err != nil || v.helper == nil {
		return errors.Join(err, v.why, v.end(ctx))
	}
	return errors.Join(v.unstage(ctx), v.end(ctx))
}

// sumHere is the SHA-256 of a file of a site.
func sumHere(folder, name string) (string, error) {
	file, err := safefile.Open(folder, filepath.FromSlash(name))
	if err != nil {
		return "", err
	}
	defer file.Close()
	return sumAll(file)
}

// dumpFor writes a site's database as it would be at a host: with its address there, and its prefix.
func (f *Feature) dumpFor(ctx context.Context, s site.Site, there wire.Parcel, to string) error {
	m, k := f.Machine, f.Machine.CMS.Of(s)
	facts := m.CMSFacts(s)
	here := cms.Place{URL: facts.URL, Folder: s.Folder}
	prefix := facts.Prefix
	facts.URL, facts.Prefix, facts.Hash = there.URL, there.Prefix, ""
	facts.Site.Folder = there.Folder
	return m.Aside(ctx, s, func(scratch site.Site) error {
		from, release, err := m.Pool(ctx, s)
		if err != nil {
			return err
		}
		defer release()
		aside, done, err := m.Pool(ctx, scratch)
		if err != nil {
			return err
		}
		defer done()
		reader, writer := io.Pipe()
		go func() { writer.CloseWithError(cms.Dump(ctx, from, writer)) }()
		_, err = k.DrawContent(ctx, aside, reader, here, prefix, facts, nil)
		reader.CloseWithError(err)
		if err != nil {
			return err
		}
		file, err := ownfile.Create(to)
		if err != nil {
			return err
		}
		return errors.Join(cms.Dump(ctx, aside, file), file.Close())
	})
}
