package records

import (
	"context"
	"encoding/json"

	"vessik/internal/core/hosting"
)

// Account is a hosting account with its secrets, which are sealed.
type Account struct {
	hosting.Account
	Secrets hosting.Secrets
}

func accountSecret(name string) string { return "account " + name }

// SaveAccount records an account.
func (r *Records) SaveAccount(ctx context.Context, a Account) error {
	document, err := json.Marshal(a.Account)
	if err != nil {
		return err
	}
	secrets, err := json.Marshal(a.Secrets)
	if err != nil {
		return err
	}
	_, err = r.db.ExecContext(ctx, "REPLACE INTO accounts (name, document, sealed) VALUES (?,?,?)", a.Name, document,
		r.key.Seal(accountSecret(a.Name), secrets))
	return wrap(err, "record the account "+a.Name)
}

// Accounts are all hosting accounts, by name.
func (r *Records) Accounts(ctx context.Context) ([]Account, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT name, document, sealed FROM accounts ORDER BY name")
	return collect(rows, err, "read the hosting accounts", func(scan func(...any) error) (a Account, err error) {
		var name string
		var document, sealed []byte
		if err := scan(&name, &document, &sealed); err != nil {
			return a, err
		}
		if err := json.Unmarshal(document, &a.Account); err != nil {
			return a, err
		}
		secrets, err := r.key.Open(accountSecret(name), sealed)
		if err != nil {
			return a, err
		}
		return a, json.Unmarshal(secrets, &a.Secrets)
	})
}

// DropAccount forgets an account.
func (r *Records) DropAccount(ctx context.Context, name string) error {
	_, err := r.db.ExecContext(ctx, "DELETE FROM accounts WHERE name=?", name)
	return wrap(err, "forget the account "+name)
}
