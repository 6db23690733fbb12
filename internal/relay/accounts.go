package relay

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"vessik/internal/ownfile"
)

// Account may connect to a relay, by a token of which the relay keeps the hash alone.
type Account struct {
	Name   string    `json:"name"`
	Hash   string    `json:"hash"` // SHA-256 of the token, in hexadecimal
	MadeAt time.Time `json:"made_at"`
}

// Accounts are those of a relay, in a file of its folder that is read anew when somebody comes: another process may add to it.
type Accounts struct {
	Dir string
	mu  sync.Mutex
}

func (a *Accounts) file() string { return filepath.Join(a.Dir, "accounts.json") }

// All are the accounts by name.
func (a *Accounts) All() (all []Account, err error) {
	text, err := ownfile.Read(a.file())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &all)
	}
	return all, err
}

func (a *Accounts) write(all []Account) error {
	text, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	return ownfile.Write(a.file(), text, 0o600)
}

// Add makes an account, and returns its token, which is told this once.
func (a *Accounts) Add(name string) (token string, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if !isLabel(name) {
		return "", fmt.Errorf("account: %q is no name for one: small letters, digits and hyphens, 3 to 40 of them", name)
	}
	if err := ownfile.Make(a.Dir, 0o700); err != nil {
		return "", err
	}
	all, err := a.All()
	if err != nil {
		return "", err
	}
	if slices.ContainsFunc(all, func(each Account) bool { return each.Name == name }) {
		return "", fmt.Errorf("account: there is one called %q; drop it first, or choose another name", name)
	}
	token = rand.Text()
	all = append(all, Account{name, hashOf(token), time.Now().UTC().Truncate(time.Second)})
	slices.SortFunc(all, func(a, b Account) int { return strings.Compare(a.Name, b.Name) })
	return token, a.write(all)
}

// Drop ends an account.
func (a *Accounts) Drop(name string) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	all, err := a.All()
	if err != nil {
		return err
	}
	left := slices.DeleteFunc(slices.Clone(all), func(each Account) bool { return each.Name == name })
	if len(left) == len(all) {
		return fmt.Errorf("account: there is none called %q", name)
	}
	return a.write(left)
}

// of is the account of a token.
func (a *Accounts) of(token string) (account Account, known bool, err error) {
	all, err := a.All()
	if err != nil || token == "" {
		return account, false, err
	}
	i := slices.IndexFunc(all, func(each Account) bool { return each.Hash == hashOf(token) })
	if i < 0 {
		return account, false, nil
	}
	return all[i], true, nil
}

func hashOf(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

// isLabel tells whether a text is one label of a host name that may be chosen.
func isLabel(text string) bool {
	return len(text) >= 3 && len(text) <= 40 && text[0] != '-' && text[len(text)-1] != '-' && !strings.HasPrefix(text, "xn--") &&
		!strings.ContainsFunc(text, func(c rune) bool { return c != '-' && (c < '0' || c > '9') && (c < 'a' || c > 'z') })
}
