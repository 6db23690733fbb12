package test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/plan"
)

// attempt is a kind of operation as it is asked for at one site.
type attempt struct {
	title   string
	kind    plan.Kind
	content bool // it moves or replaces what the database holds
	ready   func(t *testing.T, s *service, name string)
	begin   func(s *service, name string) (client.Operation, error)
	part    func(name string) string // of the operation; nil for the site
	// After it failed or was cancelled, the site is as it was (the usual one), gone, or marked.
	leaves string
}

// What is left of a site after an attempt that failed, where it is not as it was.
const (
	nothing = "nothing" // it is gone
	marked  = "marked"  // it can be asked again
)

var ctx = context.Background()

func doing(kind plan.Kind) func(*service, string) (client.Operation, error) {
	return func(s *service, name string) (client.Operation, error) { return s.Do(ctx, kind, namesOf(name)) }
}

// attempts are all kinds of operations, those of changes in more than one way.
func attempts(dump, address string) []attempt {
	memory := func(s *service, name string) (client.Operation, error) {
		return s.Adjust(ctx, name, client.Settings{PHP: map[string]string{"memory_limit": "200M"}}, false)
	}
	stack := func(r client.Restack) func(*service, string) (client.Operation, error) {
		return func(s *service, name string) (client.Operation, error) { return s.Restack(ctx, name, r) }
	}
	return []attempt{
		{title: "new", kind: plan.New, leaves: nothing, begin: func(s *service, name string) (client.Operation, error) {
			return s.New(ctx, client.Request{Name: name})
		}, ready: absent},
		{title: "start", kind: plan.Start, leaves: marked, begin: doing(plan.Start), ready: func(t *testing.T, s *service,
			name string) {
			s.do(t, plan.Stop, name)
		}},
		{title: "stop", kind: plan.Stop, leaves: marked, begin: doing(plan.Stop), ready: running},
		{title: "verify", kind: plan.Verify, begin: doing(plan.Verify)},
		{title: "retire", kind: plan.Retire, leaves: marked, begin: doing(plan.Retire)},
		{title: "restack PHP and web server", kind: "restack", begin: stack(client.Restack{PHP: "8.4", Web: "apache"})},
		{title: "restack database", content: true, kind: "restack", begin: stack(client.Restack{Database: "11.8"})},
		{title: "settings", kind: "adjust", begin: memory},
		{title: "rename", content: true, kind: "readdress", begin: func(s *service, name string) (client.Operation, error) {
			return s.Rename(ctx, name, client.Rename{Name: name + "-next"})
		}},
		{title: "load", content: true, kind: "load-sql", begin: func(s *service, name string) (client.Operation, error) {
			return s.LoadSQL(ctx, name, client.LoadSQL{SQL: dump, Address: address})
		}},
		{title: "trial", kind: "trial", part: func(name string) string { return name + "-trial-1" },
			begin: func(s *service, name string) (client.Operation, error) {
				return s.Try(ctx, name, client.Trial{PHP: "8.4", NoPicture: true})
			}},
		{title: "save", kind: "save-stencil", begin: func(s *service, name string) (client.Operation, error) {
			return s.SaveStencil(ctx, name, client.SaveStencil{As: "from-" + name})
		}},
		{title: "fleet file", kind: "match-fleet", leaves: marked,
			begin: func(s *service, name string) (client.Operation, error) {
				return s.MatchFleet(ctx, "fleet: 1\nsites:\n  - name: "+name+"\n    php: \"8.4\"\n    domain: "+name+
					"-2.localhost\n    domains: ["+name+"-3.localhost]\n    group: gardens\n    state: stopped\n")
			}},
	}
}

func absent(t *testing.T, s *service, name string) {
	_, err := s.Site(ctx, name, false)
	require.Error(t, err)
}

func running(t *testing.T, s *service, name string) { requirePassed(t, s.do(t, plan.Start, name)) }

// place is where an attempt is broken off.
type place struct {
	attempt
	site, step, when string
	last             bool // nothing comes after it
	before           client.Site
}

// words are how the service is told of a place.
func (p place) words() string {
	part := p.site
	if p.part != nil {
		part = p.part(p.site)
	}
	return fmt.Sprintf("%s.%s.%s.%s", p.kind, part, p.step, p.when)
}

// Before and after every step of every kind of operation the service fails, is cancelled, and is killed. Afterwards each site is as it was,
// whole, or gone; and nothing is left that belongs to no site. The service is a build for it.
func TestEveryStepOfEveryOperationCanBreakOff(t *testing.T) {
	points := filepath.Join(filepath.Dir(newHome(t)), "points")
	require.NoError(t, os.Mkdir(points, 0o777))
	require.NoError(t, os.Chmod(points, 0o777))
	t.Setenv("VESSIK_FAILPOINTS", points)
	home, build := newHome(t), built(t, "-tags", "failpoints")
	s := launchCommand(t, exec.Command(build, "serve", "-home", home), home)
	defer func() { s.stop() }()
	requirePassed(t, s.made(t, client.Request{Name: "source", CMS: "empty"}))
	source := plant(t, s, "source")
	dump := dumpOf(t, source)
	places := placesOf(t, s, points, attempts(dump, source.URL))
	t.Logf("%d places", len(places))

	t.Run("fails", func(t *testing.T) {
		for _, p := range places {
			t.Run(p.title+" "+p.step+" "+p.when, func(t *testing.T) {
				t.Parallel()
				p.breakOff(t, s, points)
			})
		}
	})
	if t.Failed() {
		return
	}
	s.kill()
	s = launchCommand(t, exec.Command(build, "serve", "-home", home), home)
	settled(t, s)
	t.Run("killed", func(t *testing.T) {
		for _, p := range places {
			t.Run(p.title+" "+p.step+" "+p.when, func(t *testing.T) {
				t.Parallel()
				p.afterwards(t, s)
			})
		}
	})
	consistent(t, s)
}

// built is the service as a build for one test.
func built(t *testing.T, flags ...string) string {
	path := filepath.Join(scratch, "vessik-"+strings.Join(flags, ""))
	out, err := exec.Command("go", slices.Concat([]string{"build"}, flags, []string{"-o", path, "../cmd/vessik"})...).CombinedOutput()
	require.NoError(t, err, string(out))
	return path
}

// All kinds of operations at once, each at a site of its own: the service is a build that tells of data races.
func TestAllKindsOfOperationsAtOnceWithoutADataRace(t *testing.T) {
	t.Setenv("GORACE", "halt_on_error=0")
	home := newHome(t)
	s := launchCommand(t, exec.Command(built(t, "-race"), "serve", "-home", home), home)
	defer func() { s.stop() }()
	requirePassed(t, s.made(t, client.Request{Name: "source", CMS: "empty"}))
	source := plant(t, s, "source")
	all := attempts(dumpOf(t, source), source.URL)
	requests := []client.Request{}
	name := func(i int) string { return fmt.Sprintf("kind-%d", i) }
	for i, a := range all {
		if a.kind != plan.New {
			requests = append(requests, client.Request{Name: name(i), CMS: "empty"})
		}
	}
	requirePassed(t, s.made(t, requests...))
	for i, a := range all {
		if a.ready != nil {
			a.ready(t, s, name(i))
		}
	}
	begun := make([]client.Operation, len(all))
	var group sync.WaitGroup
	for i, a := range all {
		group.Go(func() {
			var err error
			begun[i], err = a.begin(s, name(i))
			assert.NoError(t, err, a.title)
		})
	}
	group.Wait()
	for i, a := range all {
		watched := s.watch(t, begun[i])
		assert.Equal(t, plan.OperationDone, watched.State, "%s: %+v", a.title, watched.Sites)
	}
	consistent(t, s)
	s.stop()
	assert.NotContains(t, s.out.text(), "DATA RACE")
}

// placesOf tries each kind once to see its steps, and makes a site for each place of it.
func placesOf(t *testing.T, s *service, points string, all []attempt) (places []place) {
	t.Helper()
	requests := []client.Request{}
	known := map[string]bool{"fetch": true} // see below
	for i, a := range all {
		known[string(a.kind)] = true
		probe := fmt.Sprintf("probe-%d", i)
		if a.kind != plan.New {
			requirePassed(t, s.made(t, client.Request{Name: probe, CMS: "empty"}))
		}
		if a.ready != nil {
			a.ready(t, s, probe)
		}
		operation, err := a.begin(s, probe)
		require.NoError(t, err, a.title)
		watched := s.watch(t, operation)
		require.Equal(t, plan.OperationDone, watched.State, "%s: %+v", a.title, watched.Sites)
		steps := watched.Sites[0].Steps
		for j, entry := range steps {
			for _, when := range []string{"before", "noted", "after"} {
				if entry.Step == plan.Reserve || when == "noted" && entry.Note == "" {
					continue
				}
				places = append(places, place{attempt: a, step: string(entry.Step), when: when,
					last: j == len(steps)-1 && when == "after"})
			}
		}
		places = append(places, place{attempt: a, step: "end", when: "before", last: true})
		for _, name := range []string{probe, probe + "-next"} {
			if _, err := s.Site(ctx, name, false); err == nil {
				s.retire(t, name)
			}
		}
	}
	kinds, err := os.ReadFile(filepath.Join(points, "kinds"))
	require.NoError(t, err)
	for line := range strings.Lines(string(kinds)) {
		assert.True(t, known[strings.Fields(line)[0]], "a kind that is not tried: %s", line)
	}
	for i := range places {
		p := &places[i]
		p.site = fmt.Sprintf("place-%d", i)
		if p.kind != plan.New {
			requests = append(requests, client.Request{Name: p.site, CMS: "empty"})
		}
	}
	requirePassed(t, s.made(t, requests...))
	for _, p := range places {
		if p.content {
			plant(t, s, p.site)
		}
	}
	return places
}

// breakOff has an attempt fail at a place, then be cancelled, and then hold there.
func (p *place) breakOff(t *testing.T, s *service, points string) {
	path := filepath.Join(points, p.words())
	for _, what := range []string{"fail", "cancel", "hold"} {
		if what != "hold" && p.last || p.kind == "match-fleet" && what == map[string]string{"before": "fail", "after": "cancel"}[p.when] {
			continue // what a fleet file begins goes through its own places
		}
		if p.ready != nil {
			p.ready(t, s, p.site)
		}
		p.before, _ = s.Site(ctx, p.site, true)
		require.NoError(t, os.WriteFile(path, []byte(what), 0o666))
		operation, err := p.begin(s, p.site)
		require.NoError(t, err)
		if what == "hold" {
			require.Eventually(t, func() bool { _, err := os.Stat(path + ".held"); return err == nil }, time.Minute, 10*time.Millisecond)
			return
		}
		watched := s.watch(t, operation)
		require.NoFileExists(t, path, "it got there")
		state := map[string]plan.OperationState{"fail": plan.OperationFailed, "cancel": plan.OperationCancelled}[what]
		require.Equal(t, state, watched.State, "%+v", watched.Sites)
		p.asItWas(t, s, what)
	}
}

// asItWas looks at a site after an attempt that failed or was cancelled, and brings one that was marked to where it was.
func (p *place) asItWas(t *testing.T, s *service, what string) {
	now, err := s.Site(ctx, p.site, true)
	switch p.leaves {
	case nothing:
		require.Error(t, err, what)
		assert.NoDirExists(t, filepath.Join(s.home, "sites", p.site), what)
		return
	case marked:
		operation, err := p.begin(s, p.site)
		require.NoError(t, err, what)
		watched := s.watch(t, operation)
		require.Equal(t, plan.OperationDone, watched.State, "again after it could not: %+v", watched.Sites)
		p.anew(t, s)
		return
	}
	require.NoError(t, err, what)
	p.before.Resting, now.Resting = false, false
	assert.Equal(t, p.before, now, what)
	status, _, _ := get(t, now.URL)
	assert.Equal(t, 200, status, what)
	if p.content {
		assert.Equal(t, now.URL+" of "+p.site, query(t, now, "SELECT said FROM words"), what)
	}
}

// plant puts something into a site's database that is re-addressed with it.
func plant(t *testing.T, s *service, name string) client.Site {
	t.Helper()
	at := s.secrets(t, name)
	_, err := pool(t, at).Exec("CREATE TABLE words (id INT PRIMARY KEY, said TEXT)")
	require.NoError(t, err)
	_, err = pool(t, at).Exec("INSERT INTO words VALUES (1, ?)", at.URL+" of "+name)
	require.NoError(t, err)
	return at
}

// anew has a site be there and run, as at first.
func (p *place) anew(t *testing.T, s *service) {
	if p.kind == "match-fleet" {
		s.retire(t, p.site)
	}
	if _, err := s.Site(ctx, p.site, false); err != nil {
		requirePassed(t, s.made(t, client.Request{Name: p.site, CMS: "empty"}))
		return
	}
	running(t, s, p.site)
}

// afterwards looks at a site whose service was killed in the middle.
func (p *place) afterwards(t *testing.T, s *service) {
	now, err := s.Site(ctx, p.site, true)
	next := p.site + "-next"
	if p.kind == "readdress" && err != nil {
		now, err = s.Site(ctx, next, true)
	}
	if p.kind == plan.New && err != nil || p.kind == plan.Retire {
		require.Error(t, err, "it is gone")
		return
	}
	require.NoError(t, err)
	if now.State == "stopped" {
		require.Contains(t, []plan.Kind{plan.Stop, "match-fleet"}, p.kind)
		requirePassed(t, s.do(t, plan.Start, now.Name))
	}
	requirePassed(t, s.do(t, plan.Verify, now.Name))
	if p.content {
		of := p.site
		if now.Name == p.site && p.kind == "load-sql" && strings.Contains(query(t, now, "SELECT said FROM words"), "source") {
			of = "source" // it was settled already
		}
		assert.Equal(t, now.URL+" of "+of, query(t, now, "SELECT said FROM words"))
	}
	if p.kind == "trial" {
		_, err := s.Site(ctx, p.part(p.site), false)
		require.Error(t, err, "copies go")
	}
}

// settled waits until nothing is being carried out any more.
func settled(t *testing.T, s *service) {
	t.Helper()
	require.Eventually(t, func() bool {
		operations, err := s.Operations(ctx, 1000)
		require.NoError(t, err)
		return !slices.ContainsFunc(operations, func(o client.Operation) bool { return o.State == plan.OperationRunning })
	}, 3*time.Minute, 50*time.Millisecond)
}
