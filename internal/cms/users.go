package cms

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"html"
	"slices"
	"strconv"
	"strings"
	"time"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"

	"vessik/internal/safefile"
)

// HashOf is what a version of the CMS stores for a password; empty where the definition knows no way.
func (k *Definition) HashOf(version, password string) string {
	for _, h := range k.Administrator.Hashes {
		if site.CompareVersions(version, h.Version) >= 0 {
			return hashWith(h.Scheme, k.asPosted(password))
		}
	}
	return ""
}

// asPosted is a password as the login form sees it.
func (k *Definition) asPosted(password string) string {
	if !k.Administrator.Slashed {
		return password
	}
	return strings.NewReplacer(`\`, `\\`, `'`, `\'`, `"`, `\"`).Replace(password)
}

// PasswordChanged tells whether the administrator's password in the database is no longer the one that the site was made with.
func (k *Definition) PasswordChanged(ctx context.Context, pool *sql.DB, facts Facts) (bool, error) {
	stored, err := k.one(ctx, pool, k.Administrator.Password, facts)
	if err != nil {
		return false, err
	}
	password := k.asPosted(facts.Administrator.Password)
	return stored != facts.Site.AdminHash && !passwordMatches(password, stored) && !passwordMatches(k.peppered(facts.Site.Folder, password),
		stored), nil
}

// peppered is what the CMS gives to bcrypt where it keeps a key of its own; empty where it does not.
func (k *Definition) peppered(folder, password string) string {
	text, err := safefile.ReadFile(folder, k.Administrator.Pepper.File)
	if err != nil {
		return ""
	}
	match := k.submatch(k.Administrator.Pepper.Pattern, string(text))
	if match == nil {
		return ""
	}
	key, err := base64.StdEncoding.DecodeString(strings.ReplaceAll(match[1], `\/`, "/"))
	if err != nil {
		return ""
	}
	mac := hmac.New(sha256.New, key)
	mac.Write([]byte(password))
	return hex.EncodeToString(mac.Sum(nil))
}

// TitleOf is the title that the site has now, which its owner may have changed since it was made.
func (k *Definition) TitleOf(ctx context.Context, pool *sql.DB, facts Facts) (string, error) {
	stored, err := k.one(ctx, pool, k.Content.Title, facts)
	if k.Content.TitleHTML {
		stored = html.UnescapeString(stored)
	}
	return stored, err
}

// ErrUnknown says that a definition does not describe what was asked for.
var ErrUnknown = errors.New("its definition does not say how")

// one asks for one value.
func (k *Definition) one(ctx context.Context, pool *sql.DB, query string, facts Facts) (value string, err error) {
	if query == "" {
		return "", ErrUnknown
	}
	statement, err := k.write(query, facts)
	if err != nil {
		return "", err
	}
	return value, pool.QueryRowContext(ctx, statement).Scan(&value)
}

// Users lists a site's users, administrators first.
func (k *Definition) Users(ctx context.Context, pool *sql.DB, facts Facts) ([]wire.User, error) {
	if k.Administrator.Users == "" {
		return nil, fmt.Errorf("list the users (%s): %w", k.Title, ErrUnknown)
	}
	statement, err := k.write(k.Administrator.Users, facts)
	if err != nil {
		return nil, err
	}
	rows, err := pool.QueryContext(ctx, statement)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	users := []wire.User{}
	for rows.Next() {
		var u wire.User
		if err := rows.Scan(&u.Login, &u.Name, &u.Mail, &u.Role); err != nil {
			return nil, err
		}
		users = append(users, u)
	}
	return users, rows.Err()
}

// SetPassword gives a user another password; facts name the user and the hash.
func (k *Definition) SetPassword(ctx context.Context, pool *sql.DB, facts Facts) error {
	if len(k.Administrator.Set) == 0 || facts.Hash == "" {
		return fmt.Errorf("set a password (%s): %w", k.Title, ErrUnknown)
	}
	return k.execute(ctx, pool, k.Administrator.Set, facts)
}

// ReplaceAdministrator puts the administrator of the facts in the place of their user, who keeps everything but the name, the mail
// address and the password.
func (k *Definition) ReplaceAdministrator(ctx context.Context, pool *sql.DB, facts Facts) error {
	if len(k.Administrator.HandOver) == 0 || facts.Hash == "" {
		return fmt.Errorf("replace the administrator (%s): %w", k.Title, ErrUnknown)
	}
	texts := k.Administrator.HandOver
	if facts.Network != "" {
		texts = slices.Concat(texts, k.Network.HandOver)
	}
	return k.execute(ctx, pool, texts, facts)
}

// execute carries out statements of the definition, on one connection.
func (k *Definition) execute(ctx context.Context, pool *sql.DB, texts []string, facts Facts) error {
	statements, err := k.writeAll(texts, facts)
	if err != nil || len(statements) == 0 {
		return err
	}
	_, err = pool.ExecContext(ctx, strings.Join(statements, ";\n"))
	return err
}

// NextTask is when a site's next scheduled task is due; zero where there is none.
func (k *Definition) NextTask(ctx context.Context, pool *sql.DB, facts Facts) (time.Time, error) {
	if k.Tasks.Address == "" {
		return time.Time{}, nil
	}
	stored, err := k.one(ctx, pool, k.Tasks.Next, facts)
	if err != nil {
		return time.Time{}, err
	}
	next := int64(0)
	for _, match := range k.regexps[k.Tasks.Pattern].FindAllStringSubmatch(stored, -1) {
		if at, err := strconv.ParseInt(match[1], 10, 64); err == nil && (next == 0 || at < next) {
			next = at
		}
	}
	if next == 0 {
		return time.Time{}, nil
	}
	return time.Unix(next, 0), nil
}

// escapeHTML writes a text as HTML has it, quotes included.
func escapeHTML(text string) string {
	return strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;", "'", "&#039;").Replace(text)
}

func nicename(user string) string {
	name := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9', r == '-', r == '_':
			return r
		case r == ' ', r == '.', r == '@':
			return '-'
		}
		return -1
	}, strings.ToLower(user))
	return name[:min(len(name), 50)]
}

// Password makes a password of 28 characters, about 160 bits.
func Password() string {
	return letters("abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789", 28)
}

// Prefix makes a prefix for tables that nobody guesses, such as k3xw_.
func Prefix() string {
	return letters("abcdefghjkmnpqrstuvwxyz", 1) + letters("abcdefghjkmnpqrstuvwxyz23456789", 3) + "_"
}

func letters(of string, count int) string {
	out := make([]byte, count)
	for i := range out {
		for { // no remainder: every letter is as likely
			var b [1]byte
			rand.Read(b[:])
			if int(b[0]) < 256/len(of)*len(of) {
				out[i] = of[int(b[0])%len(of)]
				break
			}
		}
	}
	return string(out)
}

// token makes a random text of hexadecimal digits.
func token(digits int) string {
	raw := make([]byte, digits/2)
	rand.Read(raw)
	return hex.EncodeToString(raw)
}
