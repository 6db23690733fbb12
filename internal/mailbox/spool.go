package mailbox

import (
	"context"
	"errors"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"vessik/internal/core/message"
	"vessik/internal/ownfile"
	"vessik/internal/records"
	"vessik/internal/safefile"
)

// spool is what stands below a site's folder of mail, and holds what it sends by a program until that is taken; the site writes it.
const spool = "spool"

// spoolLook is how often the spools are looked at, settle for how long one may change without being seen to: times of files are coarse.
const (
	spoolLook = 300 * time.Millisecond
	settle    = time.Second
	lookMost  = 50 // messages at one look: whoever waits for one does not wait for all
)

// spooled is what is known of one site's spool. Each is seen to by itself: a site that fills its own keeps no other waiting.
type spooled struct {
	busy sync.Mutex
	seen time.Time // when it was changed that it was looked into
}

// LookAfter takes what sites send by a program, until the service ends.
func (b *Mailbox) LookAfter() {
	look := time.NewTicker(spoolLook)
	defer look.Stop()
	for {
		select {
		case <-b.Machine.Work.Context().Done():
			b.close()
			return
		case <-look.C:
			for _, s := range b.Machine.Registry.All() {
				if !ownfile.Changed(b.spoolOf(s.Name)).IsZero() {
					b.Machine.Work.Go(func() { b.Look(s.Name) })
				}
			}
			b.closeStrangers()
		}
	}
}

func (b *Mailbox) spoolOf(name string) string { return b.Machine.Home.Path("mail", name, spool) }

// Look takes what is in one site's spool, unless it was seen as it is, or somebody does that already; much of it at several times.
func (b *Mailbox) Look(name string) {
	b.mu.Lock()
	of := b.spools[name]
	if of == nil {
		of = &spooled{}
		b.spools[name] = of
	}
	b.mu.Unlock()
	if !of.busy.TryLock() {
		return
	}
	defer of.busy.Unlock()
	changed := ownfile.Changed(b.spoolOf(name))
	if changed.IsZero() || changed.Equal(of.seen) && time.Since(changed) > settle {
		return
	}
	folder := b.Machine.Home.Path("mail", name)
	names, err := safefile.List(folder, spool)
	if err != nil {
		b.Machine.Log.Warn("look for mail", "site", name, "reason", err)
	}
	of.seen = changed
	names = slices.DeleteFunc(names, func(each string) bool { return filepath.Ext(each) != ".eml" }) // they are still being written
	if len(names) > lookMost {
		names, of.seen = names[:lookMost], time.Time{}
	}
	for _, each := range names {
		err := b.takeFile(name, folder, filepath.Join(spool, each))
		if err == nil || isNone(err) {
			continue
		}
		b.Machine.Log.Warn("take a message", "site", name, "reason", err)
		of.seen = time.Time{} // what could not be kept is tried again
		if errors.Is(err, ErrFull) {
			return
		}
	}
}

// takeFile takes one message out of a spool. What is no file, or too large, is removed; what cannot be kept at this moment stays.
func (b *Mailbox) takeFile(name, folder, file string) error {
	opened, err := safefile.Open(folder, file)
	if err == nil {
		err = b.Take(b.Machine.Work.Context(), name, ByProgram, "", nil, opened)
		opened.Close()
	}
	if err == nil || isNone(err) {
		return errors.Join(err, safefile.Remove(folder, file))
	}
	return err
}

// isNone tells whether what a site laid into its spool is no message that could be kept at any time.
func isNone(err error) bool {
	return errors.Is(err, safefile.ErrNotRegular) || errors.Is(err, errLarge)
}

// mend brings what is kept of a site to what is recorded, after a crash in the middle: what was not whole goes, what was not recorded is.
func (b *Mailbox) mend(ctx context.Context, name string) error {
	for _, path := range ownfile.Find(b.folder(name, "tmp", "*")) {
		if err := ownfile.Remove(path); err != nil {
			return err
		}
	}
	recorded, err := b.Records.Mails(ctx, records.MailsAsked{Site: name, Limit: 2 * most})
	if err != nil {
		return err
	}
	known := map[string]bool{}
	for _, each := range recorded {
		known[each.File] = true
		if ownfile.Changed(b.folder(name, "new", each.File)).IsZero() {
			err = errors.Join(err, b.Records.DropMail(ctx, each.ID))
		}
	}
	for _, path := range ownfile.Find(b.folder(name, "new", "*")) {
		if known[filepath.Base(path)] {
			continue
		}
		read, _ := readAs(message.Head, path)
		size, changed := ownfile.Size(path), ownfile.Changed(path)
		err = errors.Join(err, b.Records.AddMail(ctx, &records.Mail{Site: name, File: filepath.Base(path), Way: BySMTP, From: read.From,
			To: read.To, Subject: read.Subject, At: changed, Bytes: size}))
	}
	return err
}

// TakeOver mends what a crash left, and puts mail that an earlier version kept without an index into the spools; nothing of a site may run
// yet.
func (b *Mailbox) TakeOver() {
	if b.Machine.Book.Settings().IMAPPort != 0 {
		if err := b.openIMAP(0); err != nil {
			b.Machine.Log.Warn("open the mailboxes to mail programs", "reason", err)
		}
	}
	for _, s := range b.Machine.Registry.All() {
		folder := b.Machine.Home.Path("mail", s.Name)
		if err := b.mend(b.Machine.Work.Context(), s.Name); err != nil {
			b.Machine.Log.Warn("mend the mail", "site", s.Name, "reason", err)
		}
		for _, path := range ownfile.Find(filepath.Join(folder, "*.eml")) {
			next := filepath.Join(folder, spool, filepath.Base(path))
			if err := errors.Join(ownfile.Make(filepath.Dir(next), 0o700), ownfile.Rename(path, next)); err != nil {
				b.Machine.Log.Warn("take over a message", "site", s.Name, "reason", err)
			}
		}
	}
}
