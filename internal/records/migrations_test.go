package records_test

import (
	"database/sql"
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/records"
	"vessik/test/ground"
)

// Records of every version that was landed are read, with their secrets sealed from then on.
func TestRecordsOfEarlierVersionsAreTakenOn(t *testing.T) {
	server := ground.Database(t)
	for landed := int64(1); landed <= 5; landed++ {
		_, err := server.Admin().Exec("DROP DATABASE IF EXISTS vessik; CREATE DATABASE vessik CHARACTER SET utf8mb4 COLLATE utf8mb4_bin")
		require.NoError(t, err)
		pool := server.OpenWithTimes(records.Database)
		provider, err := goose.NewProvider(goose.DialectMySQL, pool, os.DirFS("migrations"))
		require.NoError(t, err)
		_, err = provider.UpTo(ctx, landed)
		require.NoError(t, err)
		write := func(statement string, values ...any) {
			_, err := pool.Exec(statement, values...)
			require.NoError(t, err, statement)
		}
		now := time.Now().UTC().Truncate(time.Millisecond)
		write("INSERT INTO sites VALUES ('fern', 'provisioning', ?, ?)", `{"name":"fern","state":"provisioning",`+
			`"kit":{"name":"spip","version":"4.4"},"top":true,"settings":{"offline":true,"debug":true},"title":"\"offline\":true",`+
			`"domain":"fern.localhost","port":21000,`+
			`"database":{"name":"fern","user":"fern","password":"under the moss"},`+
			`"admin":{"user":"ines","email":"\"i\"@fern.example","password":"behind the gate"},`+
			`"admin_hash":"$P$hash","probe":"of fern"}`, now)
		write("INSERT INTO reservations VALUES ('port', '21000', 'fern')")
		if landed < 4 {
			write("INSERT INTO operations (id, kind, state, keep_files, created_at) VALUES (7, 'retire', 'running', TRUE, ?)", now)
		} else {
			write("INSERT INTO operations (id, kind, state, document, created_at) VALUES (7, 'retire', 'running', ?, ?)", `{"keep_files":true}`, now)
		}
		write("INSERT INTO operation_sites VALUES (7, 'fern', 0, 'running', '')")
		write("INSERT INTO steps VALUES (7, 'fern', 0, 'withdraw', 'active', '', 0)")
		if landed > 1 {
			write("INSERT INTO operations (id, kind, state, document, created_at) VALUES (8, 'readdress', 'done', ?, ?)",
				within(landed, "change", `{"site":"moss","keep":true,"rename":"fern","who":"ines"}`), now)
			write("INSERT INTO operation_sites VALUES (8, 'moss', 0, 'done', '')")
			write("INSERT INTO operations (id, kind, state, document, created_at) VALUES (9, 'trial', 'done', ?, ?)",
				within(landed, "trial", `{"site":"fern","keep":true}`), now)
			write("INSERT INTO reports (operation, site, document, created_at) VALUES (8, 'fern', ?, ?)", `{"site":"fern","checks":[]}`, now)
			if landed >= 4 {
				write("UPDATE reports SET part='moss'")
			}
		}
		r, err := records.Open(ctx, server.Admin(), pool, key(t))
		require.NoError(t, err, "from version %d", landed)
		for range 2 { // as it is read first, and once it is sealed
			sites, err := r.Sites(ctx)
			require.NoError(t, err)
			require.Len(t, sites, 1)
			assert.Equal(t, site.Database{Name: "fern", User: "fern", Password: "under the moss"}, sites[0].Database)
			assert.Equal(t, "making spip 4.4", string(sites[0].State)+" "+sites[0].CMS.Name+" "+sites[0].CMS.Version)
			assert.Equal(t, `ines "i"@fern.example`, sites[0].Administrator.Name+" "+sites[0].Administrator.Mail)
			assert.True(t, sites[0].Pinned)
			assert.Equal(t, `closed "offline":true`, sites[0].Settings.Outgoing+" "+sites[0].Title)
			assert.Equal(t, []string{"behind the gate", "$P$hash", "of fern"}, []string{sites[0].Administrator.Password,
				sites[0].AdminHash, sites[0].Probe})
		}
		holdsNone(t, server, "under the moss", "behind the gate", "$P$hash", "of fern")
		retiring, err := r.Operation(ctx, "7")
		require.NoError(t, err)
		assert.JSONEq(t, `{"keep_files":true}`, string(retiring.Payload))
		if landed > 1 {
			renamed, err := r.Operation(ctx, "8")
			require.NoError(t, err)
			assert.JSONEq(t, `{"site":"moss","stay":true,"rename":"fern","who":"ines"}`, string(renamed.Payload))
			assert.NotNil(t, renamed.Sites[0].Report, "it has its report, whatever the site is called now")
			tried, err := r.Operation(ctx, "9")
			require.NoError(t, err)
			assert.JSONEq(t, `{"site":"fern","keep_copies":true}`, string(tried.Payload))
		}
	}
}

// within is an operation's document as a version wrote it: the first ones put each kind's under a name.
func within(landed int64, name, document string) string {
	if landed < 4 {
		return `{"` + name + `":` + document + `}`
	}
	return document
}

// holdsNone looks for secrets in everything that is recorded.
func holdsNone(t *testing.T, server interface{ Admin() *sql.DB }, words ...string) {
	t.Helper()
	rows, err := server.Admin().Query("SELECT TABLE_NAME, COLUMN_NAME FROM information_schema.COLUMNS WHERE TABLE_SCHEMA=?", records.Database)
	require.NoError(t, err)
	columns := [][2]string{}
	for rows.Next() {
		var column [2]string
		require.NoError(t, rows.Scan(&column[0], &column[1]))
		columns = append(columns, column)
	}
	require.NoError(t, rows.Err())
	require.Greater(t, len(columns), 30)
	for _, column := range columns {
		for _, word := range words {
			var found int
			query := fmt.Sprintf("SELECT COUNT(*) FROM %s.`%s` WHERE LOCATE(?, CONVERT(`%s` USING latin1)) > 0", records.Database, column[0],
				column[1])
			require.NoError(t, server.Admin().QueryRow(query, word).Scan(&found))
			assert.Zero(t, found, "%v holds %s", column, word)
		}
	}
}

func TestWhatWasDoneLongAgoIsForgotten(t *testing.T) {
	r := open(t)
	s := garden("fernhollow", 21000)
	first, err := begin(r, s)
	require.NoError(t, err)
	end := func(o *records.Operation, at time.Time) {
		o.State, o.FinishedAt = records.OperationDone, &at
		require.NoError(t, r.Finish(ctx, *o))
	}
	verify := func() *records.Operation {
		o, err := r.Begin(ctx, records.Operation{Kind: plan.Verify}, nil, []string{s.Name}, map[string][]plan.Step{s.Name: {"verify"}})
		require.NoError(t, err)
		return o
	}
	now := time.Now().UTC()
	old, running, recent := verify(), verify(), verify()
	end(first, now.Add(-40*24*time.Hour))
	end(old, now.Add(-31*24*time.Hour))
	end(recent, now)
	pruned, err := r.Prune(ctx, now.Add(-30*24*time.Hour), 1000)
	require.NoError(t, err)
	assert.EqualValues(t, 2, pruned)
	ids := func() (ids []string) {
		operations, err := r.Operations(ctx, 0)
		require.NoError(t, err)
		for _, o := range operations {
			ids = append(ids, o.ID)
		}
		return ids
	}
	assert.Equal(t, []string{recent.ID, running.ID}, ids(), "what goes on stays")
	newest := []string{}
	for range 5 {
		o := verify()
		end(o, now)
		newest = append([]string{o.ID}, newest...)
	}
	_, err = r.Prune(ctx, now.Add(-30*24*time.Hour), 3)
	require.NoError(t, err)
	assert.Equal(t, append(newest[:3], running.ID), ids(), "the newest three, and what goes on")
	_, err = r.Operation(ctx, old.ID)
	assert.ErrorIs(t, err, records.ErrNotFound)
}
