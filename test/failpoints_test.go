package test

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
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
	cms    string // of the site; the empty one where it says nothing
}

// What is left of a site after an attempt that failed, where it is not as it was.
const (
	nothing = "nothing" // it is gone
	marked  = "marked"  // it can be asked again
	engines = "engines" // it is of no site: what is in the store stays, and it can be asked again
)

var ctx = context.Background()

func doing(kind plan.Kind) func(*service, string) (client.Operation, error) {
	return func(s *service, name string) (client.Operation, error) { return s.Do(ctx, kind, namesOf(name)) }
}

// attempts are all kinds of operations, those of changes in more than one way.
func attempts(dump, address, parcel, relay string, host *hosted) []attempt {
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
		{title: "restack PHP and web server", kind: "restack", begin: stack(client.Restack{PHP: "8.2", Web: "apache"})},
		{title: "restack database", content: true, kind: "restack", begin: stack(client.Restack{Database: "10.11"})},
		{title: "settings", kind: "adjust", begin: memory},
		{title: "rename", content: true, kind: "readdress", begin: func(s *service, name string) (client.Operation, error) {
			return s.Rename(ctx, name, client.Rename{Name: name + "-next"})
		}},
		{title: "load", content: true, kind: "load-sql", begin: func(s *service, name string) (client.Operation, error) {
			return s.LoadSQL(ctx, name, client.LoadSQL{SQL: dump, Address: address})
		}},
		{title: "trial", kind: "trial", part: func(name string) string { return name + "-trial-1" },
			begin: func(s *service, name string) (client.Operation, error) {
				return s.Try(ctx, name, client.Trial{PHP: "8.2", NoPicture: true})
			}},
		{title: "save", kind: "save-stencil", begin: func(s *service, name string) (client.Operation, error) {
			return s.SaveStencil(ctx, name, client.SaveStencil{As: "from-" + name})
		}},
		{title: "restore point", kind: "make-point", begin: func(s *service, name string) (client.Operation, error) {
			return s.MakePoint(ctx, name, "")
		}},
		{title: "go back", kind: "go-back", content: true, ready: pointAndMore, begin: func(s *service, name string) (client.Operation, error) {
			points, err := s.RestorePoints(ctx, name)
			if err != nil {
				return client.Operation{}, err
			}
			return s.GoBack(ctx, name, points[len(points)-1].ID, false)
		}},
		{title: "unpack", kind: "unpack", content: true, begin: func(s *service, name string) (client.Operation, error) {
			return s.Unpack(ctx, name, parcel, false)
		}},
		{title: "stand", kind: "stand", begin: func(s *service, name string) (client.Operation, error) {
			return s.Stand(ctx, name, client.Stand{Relay: relay})
		}},
		{title: "parts", kind: "change-parts", cms: "meadow", begin: func(s *service, name string) (client.Operation, error) {
			return s.ChangeParts(ctx, name, client.ChangeParts{Drop: []string{"clover"}})
		}},
		{title: "fleet file", kind: "match-fleet", leaves: marked,
			begin: func(s *service, name string) (client.Operation, error) {
				return s.MatchFleet(ctx, "fleet: 1\nsites:\n  - name: "+name+"\n    php: \"8.2\"\n    domain: "+name+
					"-2.localhost\n    domains: ["+name+"-3.localhost]\n    group: gardens\n    state: stopped\n")
			}},
		{title: "fetch", kind: "fetch", leaves: engines, part: engineOf, ready: func(t *testing.T, s *service, name string) {
			operation, err := s.FetchEngines(ctx, engineOf(name)) // so that it is there, and is to stay
			require.NoError(t, err)
			require.Equal(t, plan.OperationDone, s.watch(t, operation).State)
		}, begin: func(s *service, name string) (client.Operation, error) {
			return s.FetchEngines(ctx, engineOf(name))
		}},
		{title: "fetch an account", kind: "fetch-account", leaves: engines, part: func(name string) string { return "account " + name },
			ready: func(t *testing.T, s *service, name string) {
				if err := s.DropAccount(ctx, name); err != nil {
					require.ErrorContains(t, err, "there is no hosting account")
				}
				host.account(t, s, name, "source", "sftp")
			},
			begin: func(s *service, name string) (client.Operation, error) {
				return s.FetchAccount(ctx, name, client.Fetch{})
			}},
		{title: "push", kind: "push-account", leaves: engines, part: func(name string) string { return "account " + name + "-host" },
			ready: func(t *testing.T, s *service, name string) {
				if err := s.DropAccount(ctx, name+"-host"); err != nil {
					require.ErrorContains(t, err, "there is no hosting account")
				}
				host.account(t, s, name+"-host", "source", "sftp")
				file := filepath.Join(s.site(t, "twin").Folder, "public", name+".txt")
				require.NoError(t, os.WriteFile(file, []byte(time.Now().String()), 0o644))
			},
			begin: func(s *service, name string) (client.Operation, error) {
				return s.PushAccount(ctx, name+"-host", client.Push{Site: "twin", Only: "files", Paths: []string{"public/" + name + ".txt"},
					Overwrite: true})
			}},
	}
}

// engineOf gives places that stand beside each other an engine of their own.
func engineOf(name string) string {
	of := []string{"nginx-1.18", "nginx-1.22", "nginx-1.26", "apache-2.4-bookworm"}
	number, _ := strconv.Atoi(name[strings.LastIndex(name, "-")+1:])
	return of[number%len(of)]
}

// onSite says that there is a site before it is asked for.
func (a attempt) onSite() bool { return a.kind != plan.New && a.leaves != engines }

// meadow is a small CMS whose sites have a plugin.
func meadow(t *testing.T, s *service) {
	text, err := os.ReadFile("../internal/cms/definitions/empty/cms.yaml")
	require.NoError(t, err)
	definition := strings.NewReplacer("cms: empty", "cms: meadow", "  files:\n", "  files:\n    - path: public/plugins/clover/plugin.php\n"+
		"      text: |\n        <?php // Plugin: Clover\n        // Version: 1\n").Replace(string(text)) + `
load: load.php
parts:
  - {kind: plugin, file: '[^/]+/plugin\.php', title: 'Plugin: (.+)', version: 'Version: (.+)', into: public/plugins,
     here: '[^/]+/plugin\.php', active: "$answer = ['clover/plugin.php'];", deactivate: "file_put_contents('off.txt', $value);"}
`
	folder := filepath.Join(s.home, "cms", "meadow")
	require.NoError(t, os.MkdirAll(folder, 0o755))
	for name, text := range map[string]string{"cms.yaml": definition, "load.php": "<?php chdir($argv[1]);"} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644))
	}
}

func absent(t *testing.T, s *service, name string) {
	_, err := s.Site(ctx, name, false)
	require.Error(t, err)
}

// pointAndMore has a site with a restore point, and a file that came later.
func pointAndMore(t *testing.T, s *service, name string) {
	points, err := s.RestorePoints(ctx, name)
	require.NoError(t, err)
	if len(points) == 0 {
		operation, err := s.MakePoint(ctx, name, "")
		require.NoError(t, err)
		require.Equal(t, plan.OperationDone, s.watch(t, operation).State)
	}
	require.NoError(t, os.WriteFile(filepath.Join(s.home, "sites", name, "later.txt"), nil, 0o644))
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
	t.Parallel()
	points := pointsFolder(t)
	home, build := newHome(t), built(t, "-tags", "failpoints")
	serve := func() *service { return launchWith(t, build, home, "VESSIK_FAILPOINTS="+points) }
	s := serve()
	defer func() { s.stop() }()
	meadow(t, s)
	requirePassed(t, s.made(t, client.Request{Name: "source", CMS: "empty"}, client.Request{Name: "twin", CMS: "empty"}))
	source := plant(t, s, "source")
	dump := dumpOf(t, source)
	_, relay := keeping(t, s, "-copies", "1000")
	places := placesOf(t, s, points, attempts(dump, source.URL, parcelOf(t, s, "source"), relay, practiceHost(t, s, outside(t))))
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
	s = serve()
	settled(t, s)
	t.Run("killed", func(t *testing.T) {
		for _, p := range places {
			t.Run(p.title+" "+p.step+" "+p.when, func(t *testing.T) {
				t.Parallel()
				p.afterwards(t, s)
			})
		}
	})
	require.Eventually(t, func() bool {
		left, _ := filepath.Glob(filepath.Join(source.Folder, "public", "move-*"))
		staged, _ := filepath.Glob(filepath.Join(source.Folder, ".move-*"))
		return len(left)+len(staged) == 0
	},
		time.Minute, 100*time.Millisecond, "nothing of ours stays at a host")
	consistent(t, s)
}

// launchWith starts another build of the service, with something in its environment.
func launchWith(t *testing.T, build, home, setting string) *service {
	command := exec.Command(build, serving(home)...)
	command.Env = append(os.Environ(), setting)
	return launchCommand(t, command, home)
}

var (
	builds   = map[string]bool{} // that are there, by path
	building sync.Mutex
)

// built is the service as a build for tests.
func built(t *testing.T, flags ...string) string {
	building.Lock()
	defer building.Unlock()
	path := filepath.Join(scratch, "vessik-"+strings.Join(flags, ""))
	if !builds[path] {
		out, err := exec.Command("go", slices.Concat([]string{"build"}, flags, []string{"-o", path, "../cmd/vessik"})...).CombinedOutput()
		require.NoError(t, err, string(out))
		builds[path] = true
	}
	return path
}

// pointsFolder is where a service is told what is to happen where.
func pointsFolder(t *testing.T) string {
	points := filepath.Join(filepath.Dir(newHome(t)), "points")
	require.NoError(t, os.Mkdir(points, 0o777))
	require.NoError(t, os.Chmod(points, 0o777))
	return points
}

// A site that is taken back after a crash may take long over it. Meanwhile the others answer, and what there is can be seen.
func TestTheOthersAnswerWhileOneSiteIsTakenBack(t *testing.T) {
	t.Parallel()
	points, home, build := pointsFolder(t), newHome(t), built(t, "-tags", "failpoints")
	setting := "VESSIK_FAILPOINTS=" + points
	hold := func(place string) string {
		require.NoError(t, os.WriteFile(filepath.Join(points, place), []byte("hold"), 0o666))
		return filepath.Join(points, place+".held")
	}
	is := func(path string) func() bool { return func() bool { _, err := os.Stat(path); return err == nil } }
	s := launchWith(t, build, home, setting)
	requirePassed(t, s.made(t, client.Request{Name: "fernhollow", CMS: "empty"}, client.Request{Name: "moss-archive", CMS: "empty"}))
	moss := s.site(t, "moss-archive").URL
	held := hold("restack.fernhollow.switch.after")
	_, err := s.Restack(ctx, "fernhollow", client.Restack{PHP: "8.2"})
	require.NoError(t, err)
	require.Eventually(t, is(held), time.Minute, 10*time.Millisecond)
	s.kill()

	held = hold("restack.fernhollow.recover.before")
	command := exec.Command(build, serving(home)...)
	command.Env = append(os.Environ(), setting)
	require.NoError(t, command.Start())
	defer command.Wait()
	defer command.Process.Kill()
	require.Eventually(t, is(held), time.Minute, 10*time.Millisecond)
	require.Eventually(t, func() bool { _, _, code := run(t, "sites", "-home", home); return code == 0 }, time.Minute, 50*time.Millisecond)
	status, text, _ := get(t, moss)
	assert.Equal(t, 200, status, text)
	require.NoError(t, command.Process.Kill())
	command.Wait()

	s = launchWith(t, build, home, setting)
	defer func() { s.stop() }()
	assert.Equal(t, "php-8.4", s.site(t, "fernhollow").Stack.PHP.Engine)
	requirePassed(t, s.do(t, plan.Verify, "fernhollow", "moss-archive"))
}

// All kinds of operations at once, each at a site of its own: the service is a build that tells of data races.
func TestAllKindsOfOperationsAtOnceWithoutADataRace(t *testing.T) {
	t.Parallel()
	home := newHome(t)
	s := launchWith(t, built(t, "-race"), home, "GORACE=halt_on_error=0")
	defer func() { s.stop() }()
	meadow(t, s)
	requirePassed(t, s.made(t, client.Request{Name: "source", CMS: "empty"}, client.Request{Name: "twin", CMS: "empty"}))
	source := plant(t, s, "source")
	_, relay := keeping(t, s, "-copies", "1000")
	all := attempts(dumpOf(t, source), source.URL, parcelOf(t, s, "source"), relay, practiceHost(t, s, outside(t)))
	requests := []client.Request{}
	name := func(i int) string { return fmt.Sprintf("kind-%d", i) }
	for i, a := range all {
		if a.onSite() {
			requests = append(requests, client.Request{Name: name(i), CMS: cmp.Or(a.cms, "empty")})
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
	known := map[string]bool{}
	for i, a := range all {
		known[string(a.kind)] = true
		probe := fmt.Sprintf("probe-%d", i)
		if a.onSite() {
			requirePassed(t, s.made(t, client.Request{Name: probe, CMS: cmp.Or(a.cms, "empty")}))
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
		if p.onSite() {
			requests = append(requests, client.Request{Name: p.site, CMS: cmp.Or(p.cms, "empty")})
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
		require.NoFileExists(t, path, "it got there: %+v", watched.Sites)
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
	case engines:
		p.fetched(t, s)
		return
	}
	require.NoError(t, err, what)
	p.before.Resting, now.Resting = false, false
	assert.Equal(t, p.before, now, what)
	status, _, _ := get(t, now.URL)
	assert.Equal(t, 200, status, what)
	if p.kind == "change-parts" {
		assert.FileExists(t, filepath.Join(now.Folder, "public/plugins/clover/plugin.php"), what)
	}
	if p.kind == "go-back" {
		assert.FileExists(t, filepath.Join(now.Folder, "later.txt"), what)
	}
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
	if p.leaves == engines {
		p.fetched(t, s)
		return
	}
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
		if now.Name == p.site && slices.Contains([]plan.Kind{"load-sql", "unpack"}, p.kind) &&
			strings.Contains(query(t, now, "SELECT said FROM words"), "source") {
			of = "source" // it was settled already
		}
		assert.Equal(t, now.URL+" of "+of, query(t, now, "SELECT said FROM words"))
	}
	if p.kind == "trial" {
		_, err := s.Site(ctx, p.part(p.site), false)
		require.Error(t, err, "copies go")
	}
}

// fetched has the engine of a place be there, and be fetched again.
func (p *place) fetched(t *testing.T, s *service) {
	if p.kind == "fetch" {
		catalogue, err := s.Engines(ctx)
		require.NoError(t, err)
		there := slices.ContainsFunc(catalogue.Engines, func(e client.Engine) bool { return e.ID == engineOf(p.site) && e.Present })
		require.True(t, there, engineOf(p.site))
	}
	operation, err := p.begin(s, p.site)
	require.NoError(t, err)
	watched := s.watch(t, operation)
	require.Equal(t, plan.OperationDone, watched.State, "%+v", watched.Sites)
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
