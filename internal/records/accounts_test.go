package records_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/hosting"
	"vessik/internal/records"
	"vessik/test/ground"
)

// An account is found again as it was written; what opens it is sealed where it is recorded.
func TestAccountsAreKept(t *testing.T) {
	r, ctx := open(t), context.Background()
	of := func(name string) records.Account {
		return records.Account{Account: hosting.Account{Name: name, At: "sftp://ines@host.example/www", URL: "https://orchard.example",
			MadeAt: time.Date(2026, 11, 29, 6, 0, 0, 0, time.UTC)}, Secrets: hosting.Secrets{Password: "the-gate-is-open-9", Key: "a private key"}}
	}
	require.NoError(t, r.SaveAccount(ctx, of("orchard-staging")))
	require.NoError(t, r.SaveAccount(ctx, of("orchard-live")))
	found, err := r.Accounts(ctx)
	require.NoError(t, err)
	assert.Equal(t, []records.Account{of("orchard-live"), of("orchard-staging")}, found)
	holdsNone(t, ground.Database(t), "the-gate-is-open-9", "a private key")
	changed := of("orchard-live")
	changed.Helper, changed.Stage, changed.Turned, changed.HostKey = "move-x.php", ".move-y", true, "SHA256:x"
	require.NoError(t, r.SaveAccount(ctx, changed))
	require.NoError(t, r.DropAccount(ctx, "orchard-staging"))
	found, err = r.Accounts(ctx)
	require.NoError(t, err)
	assert.Equal(t, []records.Account{changed}, found)
	require.NoError(t, r.DropAccount(ctx, "nobody"))
}
