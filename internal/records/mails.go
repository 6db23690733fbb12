package records

import (
	"context"
	"database/sql"
	"errors"
	"strings"
	"time"
)

// Mail is what of a caught message is listed and searched.
type Mail struct {
	ID      int64
	Site    string
	File    string
	Way     string
	From    string
	To      []string
	Subject string
	At      time.Time
	Bytes   int64
	Flags   string // what mail programs mark it with, as letters of Maildir
}

// MailsAsked says which are listed: of one site or of all (empty), with a text in them or with any, newer than one or not, so many at most.
type MailsAsked struct {
	Site, Search string
	After        int64
	Limit        int
}

const mailColumns = "id, site, file, way, sender, recipients, subject, at, bytes, flags"

// AddMail records a message, and gives it its id.
func (r *Records) AddMail(ctx context.Context, m *Mail) error {
	const statement = "INSERT INTO mails (site, file, way, sender, recipients, subject, at, bytes) VALUES (?,?,?,?,?,?,?,?)"
	result, err := r.db.ExecContext(ctx, statement,
		m.Site, m.File, m.Way, cut(m.From, 500), cut(strings.Join(m.To, "\n"), 16000), cut(m.Subject, 1000), m.At.UTC(), m.Bytes)
	if err != nil {
		return wrap(err, "record a message of "+m.Site)
	}
	m.ID, err = result.LastInsertId()
	return err
}

// cut shortens a text to a number of characters.
func cut(text string, most int) string {
	if runes := []rune(strings.ToValidUTF8(text, "?")); len(runes) > most {
		return string(runes[:most])
	} else {
		return string(runes)
	}
}

// Mails lists messages, the newest first.
func (r *Records) Mails(ctx context.Context, asked MailsAsked) ([]Mail, error) {
	conditions, values := []string{"id>?"}, []any{asked.After}
	if asked.Site != "" {
		conditions, values = append(conditions, "site=?"), append(values, asked.Site)
	}
	if asked.Search != "" {
		pattern := "%" + strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(asked.Search) + "%"
		conditions = append(conditions, "CONCAT_WS('\n', sender, recipients, subject) COLLATE utf8mb4_unicode_ci LIKE ?")
		values = append(values, pattern)
	}
	return r.mails(ctx, "WHERE "+strings.Join(conditions, " AND ")+" ORDER BY id DESC LIMIT ?", append(values, asked.Limit)...)
}

// Mail is one message; false where there is none of that id.
func (r *Records) Mail(ctx context.Context, id int64) (Mail, bool, error) {
	found, err := r.mails(ctx, "WHERE id=?", id)
	if err != nil || len(found) == 0 {
		return Mail{}, false, err
	}
	return found[0], true, nil
}

func (r *Records) mails(ctx context.Context, which string, values ...any) ([]Mail, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT "+mailColumns+" FROM mails "+which, values...)
	if err != nil {
		return nil, wrap(err, "read what mail there is")
	}
	defer rows.Close()
	found := []Mail{}
	for rows.Next() {
		m, to := Mail{}, ""
		if err := rows.Scan(&m.ID, &m.Site, &m.File, &m.Way, &m.From, &to, &m.Subject, &m.At, &m.Bytes, &m.Flags); err != nil {
			return nil, wrap(err, "read what mail there is")
		}
		m.To = strings.FieldsFunc(to, func(r rune) bool { return r == '\n' })
		found = append(found, m)
	}
	return found, wrap(rows.Err(), "read what mail there is")
}

// MarkMail changes what a message is marked with.
func (r *Records) MarkMail(ctx context.Context, id int64, flags string) error {
	return r.set(ctx, "UPDATE mails SET flags=? WHERE id=?", flags, id)
}

// DropMail forgets a message.
func (r *Records) DropMail(ctx context.Context, id int64) error {
	return r.set(ctx, "DELETE FROM mails WHERE id=?", id)
}

// OldMails are those of a site that are too many, too old or too large together: all that come after so many, so much or so long, counted
// from the newest.
func (r *Records) OldMails(ctx context.Context, site string, most int, bytes int64, before time.Time) ([]Mail, error) {
	var id int64
	err := r.db.QueryRowContext(ctx, `SELECT id FROM (SELECT id, at, ROW_NUMBER() OVER newest AS place, SUM(bytes) OVER newest AS together
		FROM mails WHERE site=? WINDOW newest AS (ORDER BY id DESC)) AS counted
		WHERE place>? OR together>? OR at<? ORDER BY id DESC LIMIT 1`, site, most, bytes, before.UTC()).Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, wrap(err, "read what mail is old")
	}
	return r.mails(ctx, "WHERE site=? AND id<=?", site, id)
}
