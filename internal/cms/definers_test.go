package cms_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/cms"
	"vessik/internal/core/site"
	"vessik/test/ground"
)

// What an earlier version loaded as the administrator becomes the site's own.
func TestWhatRanAsTheAdministratorRunsAsTheSitesUser(t *testing.T) {
	d := ground.Database(t)
	database := site.Database{Name: "old_home", User: "old_home", Password: "garden-gate-77"}
	require.NoError(t, d.CreateDatabase(ctx, "old_home", "old_home", "garden-gate-77"))
	t.Cleanup(func() { d.DropDatabase(ctx, "old_home", "old_home") })
	connection, err := d.Admin().Conn(ctx)
	require.NoError(t, err)
	for _, statement := range []string{"USE old_home", "CREATE TABLE plants (id INT, who VARCHAR(80))", "CREATE TABLE gone (id INT)",
		"CREATE FUNCTION `who``is` () RETURNS VARCHAR(80) SQL SECURITY DEFINER RETURN CURRENT_USER()",
		"CREATE VIEW shown AS SELECT CURRENT_USER() AS me, id FROM plants", "CREATE VIEW broken AS SELECT id FROM gone", "DROP TABLE gone",
		"CREATE TRIGGER noted BEFORE INSERT ON plants FOR EACH ROW BEGIN SET @text = 'DEFINER=`a`@`b` it is'; SET NEW.who = CURRENT_USER(); END",
		"CREATE EVENT nightly ON SCHEDULE EVERY 1 DAY DO DELETE FROM plants"} {
		_, err := connection.ExecContext(ctx, statement)
		require.NoError(t, err, statement)
	}
	connection.Close()
	dropped, err := cms.OwnDefiners(ctx, d, database)
	require.NoError(t, err)
	require.Len(t, dropped, 1)
	assert.Contains(t, dropped[0], "the view broken")
	assert.Contains(t, dropped[0], "AS select", "its definition is not lost")

	pool := own(d, "old_home")
	defer pool.Close()
	_, err = pool.Exec("INSERT INTO plants (id) VALUES (1)")
	require.NoError(t, err)
	var text string
	require.NoError(t, pool.QueryRow("SELECT ACTION_STATEMENT FROM information_schema.TRIGGERS WHERE TRIGGER_NAME = 'noted'").Scan(&text))
	assert.Contains(t, text, "'DEFINER=`a`@`b` it is'", "the text itself stays")
	for _, question := range []string{"SELECT `who``is`()", "SELECT me FROM shown", "SELECT who FROM plants",
		"SELECT DEFINER FROM information_schema.EVENTS WHERE EVENT_SCHEMA = 'old_home'"} {
		var who string
		require.NoError(t, pool.QueryRow(question).Scan(&who), question)
		assert.Equal(t, "old_home@127.0.0.1", who, question)
	}
	dropped, err = cms.OwnDefiners(ctx, d, database)
	require.NoError(t, err)
	assert.Empty(t, dropped, "a second time finds nothing")
}
