package records_test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"vessik/internal/core/check"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/records"
	"vessik/internal/seal"
	"vessik/test/ground"
)

func TestMain(m *testing.M) { os.Exit(ground.Main(m)) }

var ctx = context.Background()

func open(t *testing.T) *records.Records {
	server := ground.Database(t)
	_, err := server.Admin().Exec("DROP DATABASE IF EXISTS " + records.Database)
	require.NoError(t, err)
	require.NoError(t, func() error {
		_, err := records.Open(ctx, server.Admin(), server.OpenWithTimes(records.Database), key(t))
		return err
	}())
	r, err := records.Open(ctx, server.Admin(), server.OpenWithTimes(records.Database), key(t)) // migrations are not repeated
	require.NoError(t, err)
	return r
}

// key is a new one.
func key(t *testing.T) seal.Key {
	t.Helper()
	made, err := seal.ReadOrMake(filepath.Join(t.TempDir(), "key"))
	require.NoError(t, err)
	return made
}

func garden(name string, port int) site.Site {
	return site.Site{Name: name, Title: "Ärger & Fern’s \"Garden\" 🌿", State: site.Making, Domain: name + ".localhost",
		Folder: "/srv/" + name, Port: port,
		Stack:    site.Stack{PHP: "php-8.2", Web: "nginx-1.22", Database: "mariadb-10.11"},
		Database: site.Database{Name: name, User: name, Password: "p'\\w"}, CreatedAt: time.Now().UTC().Truncate(time.Millisecond)}
}

var asked = []check.Definition{{ID: "web-answers", Title: "Own port answers"}}

var steps = []plan.Step{plan.Reserve, "lay-out", "create-database", "verify"}

func begin(r *records.Records, sites ...site.Site) (*records.Operation, error) {
	names, plans := []string{}, map[string][]plan.Step{}
	for _, s := range sites {
		names = append(names, s.Name)
		plans[s.Name] = steps
	}
	return r.Begin(ctx, records.Operation{Kind: plan.New}, sites, names, plans)
}

func TestWhatIsWrittenIsFoundAgain(t *testing.T) {
	r := open(t)
	s := garden("fernhollow", 21000)
	o, err := begin(r, s)
	require.NoError(t, err)
	found, err := r.Sites(ctx)
	require.NoError(t, err)
	assert.Equal(t, []site.Site{s}, found)

	require.NoError(t, r.SaveStep(ctx, o.ID, s.Name, 1, plan.Entry{State: plan.Active, Note: `{"inode":7}`}))
	unfinished, err := r.Unfinished(ctx)
	require.NoError(t, err)
	require.Len(t, unfinished, 1)
	steps := unfinished[0].Sites[0].Steps
	assert.Equal(t, plan.Entry{Step: plan.Reserve, State: plan.Done}, steps[0], "reserved with the plan")
	assert.Equal(t, plan.Entry{Step: "lay-out", State: plan.Active, Note: `{"inode":7}`}, steps[1])
	assert.Equal(t, plan.Pending, steps[len(steps)-1].State)

	s.State, s.Reason = site.Running, "none"
	require.NoError(t, r.SaveSite(ctx, s))
	require.NoError(t, r.SaveReport(ctx, o.ID, check.Skipped(s.Name, "first", asked)))
	require.NoError(t, r.SaveReport(ctx, o.ID, check.Skipped(s.Name, "second", asked)))
	require.NoError(t, r.SavePart(ctx, o.ID, records.OperationSite{Site: s.Name, State: records.OperationDone, Problem: "äöü"}))
	now := time.Now().UTC().Truncate(time.Millisecond)
	require.NoError(t, r.Finish(ctx, records.Operation{ID: o.ID, State: records.OperationDone, FinishedAt: &now}))
	again, err := r.Operation(ctx, o.ID)
	require.NoError(t, err)
	assert.Equal(t, now, *again.FinishedAt)
	assert.Equal(t, "äöü", again.Sites[0].Problem)
	assert.Equal(t, "second", again.Sites[0].Report.Checks[0].Observed, "the newest report")
	reports, err := r.LatestReports(ctx)
	require.NoError(t, err)
	assert.Equal(t, "second", reports[s.Name].Checks[0].Observed)
	unfinished, err = r.Unfinished(ctx)
	require.NoError(t, err)
	assert.Empty(t, unfinished)
	_, err = r.Operation(ctx, "4711")
	assert.ErrorIs(t, err, records.ErrNotFound)
}

func TestAReservationIsAllOrNothing(t *testing.T) {
	r := open(t)
	first := garden("fernhollow", 21000)
	_, err := begin(r, first)
	require.NoError(t, err)
	for kind, change := range map[string]func(*site.Site){
		"name":          func(s *site.Site) { s.Name = first.Name },
		"domain":        func(s *site.Site) { s.Domain = first.Domain },
		"port":          func(s *site.Site) { s.Port = first.Port },
		"folder":        func(s *site.Site) { s.Folder = first.Folder },
		"database":      func(s *site.Site) { s.Database.Name = "FERNHOLLOW" },
		"database user": func(s *site.Site) { s.Database.User = first.Database.User },
	} {
		t.Run(kind, func(t *testing.T) {
			good, bad := garden("good", 21001), garden("bad", 21002)
			change(&bad)
			_, err := begin(r, good, bad)
			var taken *records.ErrTaken
			require.ErrorAs(t, err, &taken)
			assert.Equal(t, kind, taken.Kind)
			sites, err := r.Sites(ctx)
			require.NoError(t, err)
			assert.Len(t, sites, 1, "the good one is not there either")
			operations, err := r.Operations(ctx, 0)
			require.NoError(t, err)
			assert.Len(t, operations, 1, "nor is an operation")
		})
	}
	require.NoError(t, r.Drop(ctx, first.Name))
	_, err = begin(r, first)
	assert.NoError(t, err, "all of it is free again")
}

func TestManyWantOnePort(t *testing.T) {
	r := open(t)
	var won atomic.Int64
	var group sync.WaitGroup
	for i := range 12 {
		group.Go(func() {
			if _, err := begin(r, garden(fmt.Sprintf("garden-%d", i), 21000)); err == nil {
				won.Add(1)
			} else {
				assert.ErrorAs(t, err, new(*records.ErrTaken))
			}
		})
	}
	group.Wait()
	assert.EqualValues(t, 1, won.Load())
}

func TestOldReportsGo(t *testing.T) {
	r := open(t)
	o, err := begin(r, garden("fernhollow", 21000), garden("moss-archive", 21001))
	require.NoError(t, err)
	require.NoError(t, r.SaveReport(ctx, o.ID, check.Skipped("moss-archive", "kept", asked)))
	for i := range 120 {
		require.NoError(t, r.SaveReport(ctx, o.ID, check.Skipped("fernhollow", fmt.Sprint(i), asked)))
	}
	var count int
	require.NoError(t, ground.Database(t).Admin().QueryRow("SELECT COUNT(*) FROM vessik.reports WHERE site='fernhollow'").Scan(&count))
	assert.Less(t, count, 101)
	reports, err := r.LatestReports(ctx)
	require.NoError(t, err)
	assert.Equal(t, "119", reports["fernhollow"].Checks[0].Observed)
	assert.Equal(t, "kept", reports["moss-archive"].Checks[0].Observed)
}

// Reports of many sites that are written at once get in each other's way, which is nobody's fault.
func TestReportsOfManySitesAreWrittenAtOnce(t *testing.T) {
	r := open(t)
	var group errgroup.Group
	for worker := range 8 {
		group.Go(func() error {
			for range 150 {
				if err := r.SaveReport(ctx, "1", check.SiteReport{Site: fmt.Sprintf("bed-%d", worker)}); err != nil {
					return err
				}
			}
			return nil
		})
	}
	require.NoError(t, group.Wait())
}

func TestSettingsAndPlacesOverTime(t *testing.T) {
	r := open(t)
	s, neighbour := garden("fernhollow", 21000), garden("moss-archive", 21001)
	_, err := begin(r, s, neighbour)
	require.NoError(t, err)
	for _, limit := range []string{"300M", "400M"} {
		require.NoError(t, r.SaveSettings(ctx, plan.SettingsEntry{Site: s.Name, Who: "ines",
			Settings: site.Settings{PHP: map[string]string{"memory_limit": limit}}}))
	}
	history, err := r.SettingsHistory(ctx, s.Name)
	require.NoError(t, err)
	require.Len(t, history, 2)
	assert.Equal(t, "400M", history[0].Settings.PHP["memory_limit"], "the newest first")
	assert.Equal(t, "ines", history[1].Who)

	s.Port, s.Folder, s.Stack.Database = 21007, "/elsewhere/fernhollow", "mariadb-11.8"
	require.NoError(t, r.Relocate(ctx, s))
	free := garden("seed-exchange", 21000)
	free.Folder, free.Database = "/srv/fernhollow", site.Database{Name: "fernhollow", User: "fernhollow"}
	_, err = begin(r, free)
	require.NoError(t, err, "what it had before is free for others")
	s.Port = neighbour.Port
	var taken *records.ErrTaken
	require.ErrorAs(t, r.Relocate(ctx, s), &taken)
	assert.Equal(t, "port", taken.Kind)
	found, err := r.Sites(ctx)
	require.NoError(t, err)
	assert.Equal(t, 21007, found[0].Port, "all of it or nothing")
	require.NoError(t, r.Drop(ctx, s.Name))
	history, err = r.SettingsHistory(ctx, s.Name)
	require.NoError(t, err)
	assert.Empty(t, history)
}

func TestAChangeKeepsWhatItFound(t *testing.T) {
	r := open(t)
	s := garden("fernhollow", 21000)
	_, err := begin(r, s)
	require.NoError(t, err)
	o, err := r.Begin(ctx, records.Operation{Kind: "restack", Payload: json.RawMessage(`{"who":"tobias"}`)}, nil, []string{s.Name},
		map[string][]plan.Step{s.Name: steps})
	require.NoError(t, err)
	o.Payload = json.RawMessage(`{"who":"tobias","worse":["front-page"]}`)
	require.NoError(t, r.SavePayload(ctx, *o))
	for _, stage := range []string{"before", "after", "back"} {
		require.NoError(t, r.SaveReport(ctx, o.ID, check.SiteReport{Site: s.Name, Stage: stage}))
	}
	found, err := r.Operation(ctx, o.ID)
	require.NoError(t, err)
	assert.JSONEq(t, string(o.Payload), string(found.Payload))
	assert.Equal(t, "back", found.Sites[0].Report.Stage)
	require.Len(t, found.Sites[0].Earlier, 2)
	assert.Equal(t, "before", found.Sites[0].Earlier[0].Stage)
	assert.Len(t, found.Sites[0].Steps, len(steps))
}

func TestASiteIsRecordedUnderAnotherName(t *testing.T) {
	r := open(t)
	old := garden("orchard-days", 21000)
	old.Domains = []string{"apples.localhost"}
	first, err := begin(r, old)
	require.NoError(t, err)
	require.NoError(t, r.SaveReport(ctx, first.ID, check.Skipped("orchard-days", "not asked", asked)))
	require.NoError(t, r.SaveSettings(ctx, plan.SettingsEntry{Site: "orchard-days", Who: "ines"}))
	_, err = begin(r, garden("moss-archive", 21001))
	require.NoError(t, err)
	renaming, err := r.Begin(ctx, records.Operation{Kind: "readdress"}, nil, []string{"orchard-days"},
		map[string][]plan.Step{"orchard-days": {"rename"}})
	require.NoError(t, err)

	taken := old
	taken.Name, taken.Domain = "apple-days", "moss-archive.localhost"
	var fault *records.ErrTaken
	require.ErrorAs(t, r.Rename(ctx, renaming.ID, "orchard-days", taken), &fault)
	assert.Equal(t, "domain", fault.Kind)
	found, err := r.Sites(ctx)
	require.NoError(t, err)
	assert.Equal(t, "orchard-days", found[1].Name, "all of it or nothing")

	next := old
	next.Name, next.Domain, next.Forwards = "apple-days", "apple-days.localhost",
		[]site.Forward{{Domain: "orchard-days.localhost", Until: time.Now().UTC().Truncate(time.Second)}}
	require.NoError(t, r.Rename(ctx, renaming.ID, "orchard-days", next))
	found, err = r.Sites(ctx)
	require.NoError(t, err)
	assert.Equal(t, next, found[0])
	for _, domain := range []string{"apple-days.localhost", "apples.localhost",
		"orchard-days.localhost"} { // what leads to it is taken as well
		other := garden("other", 21009)
		other.Domain = domain
		_, err = begin(r, other)
		assert.ErrorAs(t, err, &fault, domain)
	}
	history, err := r.SettingsHistory(ctx, "apple-days")
	require.NoError(t, err)
	assert.Len(t, history, 1)
	reports, err := r.LatestReports(ctx)
	require.NoError(t, err)
	assert.Equal(t, "apple-days", reports["apple-days"].Site)
	was, err := r.Operation(ctx, first.ID)
	require.NoError(t, err)
	assert.Equal(t, "apple-days", was.Sites[0].Site)
	assert.NotEmpty(t, was.Sites[0].Steps)
	now, err := r.Operation(ctx, renaming.ID)
	require.NoError(t, err)
	assert.Equal(t, "orchard-days", now.Sites[0].Site, "it goes on as it began")
}

func TestRecordsOfOneServerAtATime(t *testing.T) {
	server := ground.Database(t)
	_, err := server.Admin().Exec("DROP DATABASE IF EXISTS elsewhere; DROP USER IF EXISTS keeper@'127.0.0.1'")
	require.NoError(t, err)
	require.NoError(t, server.CreateDatabase(ctx, "elsewhere", "keeper", "a garden gate"))
	dsn := fmt.Sprintf("keeper:a garden gate@tcp(127.0.0.1:%d)/elsewhere", server.Port)
	pool, release, err := records.Dial(ctx, dsn, false)
	require.NoError(t, err)
	r, err := records.Open(ctx, nil, pool, key(t))
	require.NoError(t, err)
	_, err = begin(r, garden("fernhollow", 21000))
	require.NoError(t, err)
	_, _, err = records.Dial(ctx, dsn, false)
	assert.ErrorContains(t, err, "another service keeps its records in elsewhere")
	release()
	require.Eventually(t, func() bool {
		_, again, err := records.Dial(ctx, dsn, false)
		if err == nil {
			again()
		}
		return err == nil
	}, 5*time.Second, 50*time.Millisecond)
	for _, bad := range []string{"no dsn", "keeper:wrong@tcp(127.0.0.1:1)/elsewhere",
		fmt.Sprintf("keeper:wrong@tcp(127.0.0.1:%d)/elsewhere", server.Port)} {
		_, _, err := records.Dial(ctx, bad, false)
		assert.Error(t, err, bad)
	}
	_, _, err = records.Dial(ctx, "keeper:x@tcp(192.0.2.7:3306)/elsewhere?tls=false", false)
	assert.ErrorContains(t, err, "would let the records go over the network as they are")
}

func TestWhatSitesAskIsCountedAndBounded(t *testing.T) {
	r := open(t)
	_, err := begin(r, garden("fernhollow", 21000))
	require.NoError(t, err)
	at := time.Now().UTC().Truncate(time.Millisecond)
	asked := func(host string, port int, at time.Time) records.Outgoing {
		return records.Outgoing{Site: "fernhollow", Host: host, Address: "203.0.113.7", Port: port, Count: 2, Refused: 1, Milliseconds: 40,
			FirstAt: at, LastAt: at}
	}
	require.NoError(t, r.AddOutgoing(ctx, []records.Outgoing{asked("a.example", 443, at), asked("b.example", 22, at.Add(time.Second))}, 2))
	require.NoError(t, r.AddOutgoing(ctx, []records.Outgoing{asked("a.example", 443, at.Add(time.Minute)), asked("c.example", 22,
		at.Add(time.Hour))}, 2))
	found, err := r.OutgoingOf(ctx, "fernhollow")
	require.NoError(t, err)
	require.Len(t, found, 2, "the one that was asked longest ago is forgotten")
	again := asked("a.example", 443, at)
	again.Count, again.Refused, again.Milliseconds, again.LastAt = 4, 2, 80, at.Add(time.Minute)
	assert.Equal(t, again, found[1])
	assert.Equal(t, "c.example", found[0].Host)
	assert.Error(t, r.AddOutgoing(ctx, []records.Outgoing{{Site: "nobody", FirstAt: at, LastAt: at}}, 2))
	require.NoError(t, r.ForgetOutgoing(ctx, "fernhollow"))
	found, err = r.OutgoingOf(ctx, "fernhollow")
	require.NoError(t, err)
	assert.Empty(t, found)
}
