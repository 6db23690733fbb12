package mailbox

import (
	"crypto/subtle"
	"errors"
	"fmt"
	"log"
	"net"
	"strconv"
	"strings"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapserver"
	"golang.org/x/net/netutil"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/engine"
	"vessik/internal/home"
)

// usualIMAP is where the mailboxes are, where nobody else is there; mailPrograms is how many may be connected at once.
const (
	usualIMAP    = 20143
	mailPrograms = 64
)

// Access is how a mail program opens a site's mailbox: by IMAP (RFC 9051, RFC 3501) on this machine, with a password of the site's own. The
// port is kept from then on.
func (b *Mailbox) Access(name string) (wire.MailAccess, error) {
	name = site.ASCII(name)
	password, err := b.password(name)
	if err != nil {
		return wire.MailAccess{}, err
	}
	if err := b.openIMAP(usualIMAP); err != nil {
		return wire.MailAccess{}, err
	}
	return wire.MailAccess{Host: "127.0.0.1", Port: b.Machine.Book.Settings().IMAPPort, User: name, Password: password}, nil
}

// password lets a mail program into one site's mailbox, as long as there is that site.
func (b *Mailbox) password(name string) (string, error) {
	s, known := b.Machine.Registry.Site(name)
	if !known {
		return "", site.NoSite(name)
	}
	key, err := b.Machine.Book.Key()
	if err != nil {
		return "", err
	}
	return key.Derive(fmt.Sprintf("mailbox of %s, made at %d", name, s.CreatedAt.Unix()))
}

// openIMAP opens the server for mail programs unless it is open: on the port that is kept, else on a wanted or another one, which is kept.
func (b *Mailbox) openIMAP(wanted int) error {
	b.opening.Lock()
	defer b.opening.Unlock()
	b.mu.Lock()
	open := b.imap != nil
	b.mu.Unlock()
	if open {
		return nil
	}
	kept := b.Machine.Book.Settings().IMAPPort
	if kept != 0 {
		wanted = kept
	}
	listener, err := net.Listen("tcp4", net.JoinHostPort("127.0.0.1", strconv.Itoa(wanted)))
	switch {
	case err != nil && kept != 0:
		return fmt.Errorf("port %d, where mail programs expect the mailboxes, is held by %s; end that, then ask again", kept,
			engine.PortHolder(kept))
	case err != nil:
		if listener, err = net.Listen("tcp4", "127.0.0.1:0"); err != nil {
			return err
		}
	}
	if kept == 0 {
		err := b.Machine.Book.Edit(func(s *home.Settings) error { s.IMAPPort = listener.Addr().(*net.TCPAddr).Port; return nil })
		if err != nil {
			return errors.Join(err, listener.Close())
		}
	}
	server := imapserver.New(&imapserver.Options{InsecureAuth: true, Caps: imap.CapSet{imap.CapIMAP4rev1: {}, imap.CapUIDPlus: {}},
		Logger: log.New(quiet{}, "", 0),
		NewSession: func(*imapserver.Conn) (imapserver.Session, *imapserver.GreetingData, error) {
			return &reader{mailbox: b}, nil, nil
		}})
	b.mu.Lock()
	b.imap = server
	b.mu.Unlock()
	b.Machine.Work.Go(func() { server.Serve(netutil.LimitListener(listener, mailPrograms)) })
	return nil
}

// quiet says nothing of mail programs that end in the middle.
type quiet struct{}

func (quiet) Write(text []byte) (int, error) { return len(text), nil }

// reader is one mail program's connection: imapserver.Session.
type reader struct {
	mailbox *Mailbox
	name    string // of the site whose mail it reads
	opened  *opened
}

const inbox = "INBOX"

var errOneFolder = &imap.Error{Type: imap.StatusResponseTypeNo, Code: imap.ResponseCodeCannot,
	Text: "A site has one folder, " + inbox + ", and only what it sends comes there"}

func (r *reader) Close() error { return nil }

func (r *reader) Login(user, password string) error {
	name := site.ASCII(user)
	right, err := r.mailbox.password(name)
	if err != nil || subtle.ConstantTimeCompare([]byte(right), []byte(password)) != 1 {
		return imapserver.ErrAuthFailed
	}
	r.name = name
	return nil
}

func (r *reader) Select(folder string, options *imap.SelectOptions) (*imap.SelectData, error) {
	if !strings.EqualFold(folder, inbox) {
		return nil, &imap.Error{Type: imap.StatusResponseTypeNo, Code: imap.ResponseCodeNonExistent, Text: "There is " + inbox + " alone"}
	}
	found, err := r.list()
	if err != nil {
		return nil, err
	}
	r.opened = &opened{reader: r, messages: found, readOnly: options != nil && options.ReadOnly}
	data := &imap.SelectData{Flags: flagsOf(allLetters), PermanentFlags: flagsOf(allLetters), NumMessages: uint32(len(found)),
		UIDNext: next(found), UIDValidity: r.validity()}
	if options != nil && options.ReadOnly {
		data.PermanentFlags = nil
	}
	return data, nil
}

func (r *reader) Status(folder string, options *imap.StatusOptions) (*imap.StatusData, error) {
	if !strings.EqualFold(folder, inbox) {
		return nil, errOneFolder
	}
	found, err := r.list()
	if err != nil {
		return nil, err
	}
	messages, unseen, deleted, none, size := uint32(len(found)), uint32(0), uint32(0), uint32(0), int64(0)
	for _, m := range found {
		if size += m.Bytes; !strings.Contains(m.Flags, "S") {
			unseen++
		}
		if strings.Contains(m.Flags, "T") {
			deleted++
		}
	}
	return &imap.StatusData{Mailbox: inbox, NumMessages: &messages, UIDNext: next(found), UIDValidity: r.validity(), NumUnseen: &unseen,
		NumDeleted: &deleted, NumRecent: &none, Size: &size}, nil
}

func (r *reader) List(w *imapserver.ListWriter, reference string, patterns []string, options *imap.ListOptions) error {
	for _, each := range patterns {
		if imapserver.MatchList(inbox, '/', reference, each) {
			data := &imap.ListData{Mailbox: inbox, Delim: '/', Attrs: []imap.MailboxAttr{imap.MailboxAttrNoInferiors}}
			if options.ReturnStatus != nil {
				var err error
				if data.Status, err = r.Status(inbox, options.ReturnStatus); err != nil {
					return err
				}
			}
			return w.WriteList(data)
		}
	}
	return nil
}

func (r *reader) Create(string, *imap.CreateOptions) error         { return errOneFolder }
func (r *reader) Delete(string) error                              { return errOneFolder }
func (r *reader) Rename(string, string, *imap.RenameOptions) error { return errOneFolder }
func (r *reader) Subscribe(string) error                           { return nil }
func (r *reader) Unsubscribe(string) error                         { return nil }
func (r *reader) Append(string, imap.LiteralReader, *imap.AppendOptions) (*imap.AppendData, error) {
	return nil, errOneFolder
}
func (r *reader) Copy(imap.NumSet, string) (*imap.CopyData, error) { return nil, errOneFolder }
func (r *reader) Unselect() error                                  { r.opened = nil; return nil }

func (r *reader) Poll(w *imapserver.UpdateWriter, allowExpunge bool) error {
	if r.opened == nil {
		return nil
	}
	return r.opened.update(w, allowExpunge)
}

func (r *reader) Idle(w *imapserver.UpdateWriter, stop <-chan struct{}) error {
	for {
		arrived := r.mailbox.Arrived()
		if err := r.Poll(w, true); err != nil {
			return err
		}
		select {
		case <-arrived:
		case <-stop:
			return nil
		case <-r.mailbox.Machine.Work.Context().Done():
			return nil
		}
	}
}

func (r *reader) Expunge(w *imapserver.ExpungeWriter, uids *imap.UIDSet) error {
	return r.opened.expunge(w, uids)
}

func (r *reader) Search(kind imapserver.NumKind, criteria *imap.SearchCriteria, _ *imap.SearchOptions) (*imap.SearchData, error) {
	return r.opened.search(kind, criteria)
}

func (r *reader) Fetch(w *imapserver.FetchWriter, which imap.NumSet, options *imap.FetchOptions) error {
	return r.opened.fetch(w, which, options)
}

func (r *reader) Store(w *imapserver.FetchWriter, which imap.NumSet, flags *imap.StoreFlags, _ *imap.StoreOptions) error {
	return r.opened.store(w, which, flags)
}
