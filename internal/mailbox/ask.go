package mailbox

import (
	"context"
	"fmt"
	"io"
	"time"

	"vessik/internal/core/message"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/ownfile"
	"vessik/internal/records"
)

func wireOf(m records.Mail) wire.Mail {
	return wire.Mail{ID: m.ID, Site: m.Site, From: m.From, To: m.To, Subject: m.Subject, At: m.At, Bytes: m.Bytes, Way: m.Way}
}

// List is what was caught, the newest first. wait is for how long something newer than After is waited for where there is nothing.
func (b *Mailbox) List(ctx context.Context, asked records.MailsAsked, wait time.Duration) ([]wire.Mail, error) {
	if asked.Site = site.ASCII(asked.Site); asked.Site != "" {
		if _, known := b.Machine.Registry.Site(asked.Site); !known {
			return nil, site.NoSite(asked.Site)
		}
	}
	end := time.After(wait)
	for {
		arrived := b.Arrived()
		found, err := b.Records.Mails(ctx, asked)
		if err != nil || len(found) > 0 || wait == 0 {
			shown := []wire.Mail{}
			for _, each := range found {
				shown = append(shown, wireOf(each))
			}
			return shown, err
		}
		select {
		case <-arrived:
		case <-end:
			wait = 0
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-b.Machine.Work.Context().Done():
			return []wire.Mail{}, nil
		}
	}
}

func (b *Mailbox) find(ctx context.Context, id int64) (records.Mail, error) {
	found, known, err := b.Records.Mail(ctx, id)
	if err == nil && !known {
		err = fmt.Errorf("there is no message %d: %w", id, records.ErrNotFound)
	}
	return found, err
}

// Read is one message, whole.
func (b *Mailbox) Read(ctx context.Context, id int64) (wire.Mail, message.Content, error) {
	found, err := b.find(ctx, id)
	if err != nil {
		return wire.Mail{}, message.Content{}, err
	}
	read, err := readAs(message.Read, b.folder(found.Site, "new", found.File))
	return wireOf(found), read, err
}

// Source opens a message as it was sent.
func (b *Mailbox) Source(ctx context.Context, id int64) (io.ReadCloser, error) {
	found, err := b.find(ctx, id)
	if err != nil {
		return nil, err
	}
	return ownfile.Open(b.folder(found.Site, "new", found.File))
}

// Drop removes one message.
func (b *Mailbox) Drop(ctx context.Context, id int64) error {
	found, err := b.find(ctx, id)
	if err != nil {
		return err
	}
	return b.drop(ctx, found)
}

// DropAll removes all messages of a site, and tells how many there were.
func (b *Mailbox) DropAll(ctx context.Context, name string) (count int, err error) {
	name = site.ASCII(name)
	if _, known := b.Machine.Registry.Site(name); !known {
		return 0, site.NoSite(name)
	}
	for {
		some, err := b.Records.Mails(ctx, records.MailsAsked{Site: name, Limit: 500})
		if err != nil || len(some) == 0 {
			return count, err
		}
		for _, each := range some {
			if err := b.drop(ctx, each); err != nil {
				return count, err
			}
			count++
		}
	}
}
