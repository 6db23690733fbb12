// Package mailbox catches the mail that sites send, by whatever way, and keeps it: nothing is ever delivered to anybody.
package mailbox

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-imap/v2/imapserver"

	"vessik/internal/authority"
	"vessik/internal/core/message"
	"vessik/internal/core/site"
	"vessik/internal/ownfile"
	"vessik/internal/records"
	"vessik/internal/running"
)

// Ways by which mail is caught.
const (
	ByProgram = "sendmail" // as PHP's mail() and commands do
	BySMTP    = "smtp"
)

// What is kept of one site: so many messages, so much, so long. A larger message is refused.
const (
	most     = 1000
	mostSize = 200 << 20
	keptFor  = 30 * 24 * time.Hour
	largest  = 25 << 20
)

// Mailbox is that of one home.
type Mailbox struct {
	Machine *running.Machine
	Records *records.Records
	// Authority signs for the mail servers of the world; the sites alone believe it.
	Authority *authority.Authority

	mu      sync.Mutex
	spools  map[string]*spooled
	servers map[string]*server
	imap    *imapserver.Server     // opened when a mail program is first let in
	opening sync.Mutex             // held while it is
	awaited map[string]chan string // by what is looked for in a subject
	arrived chan struct{}          // closed with the next message
}

// Open makes a mailbox ready.
func Open(m *running.Machine, kept *records.Records) (*Mailbox, error) {
	signs, err := authority.OpenForAll(m.Home.Path("authority", "mail"))
	if err != nil {
		return nil, err
	}
	return &Mailbox{Machine: m, Records: kept, Authority: signs, spools: map[string]*spooled{}, servers: map[string]*server{},
		awaited: map[string]chan string{}, arrived: make(chan struct{})}, nil
}

// ErrFull says that the disk has no room for a message.
var ErrFull = errors.New("there is no room for it")

// folder is where a site's messages are kept, as Maildir has it.
func (b *Mailbox) folder(name string, more ...string) string {
	return b.Machine.Home.Path(append([]string{"mail", name, "Maildir"}, more...)...)
}

// Take keeps a message. to are those to whom it was to be delivered, nil for those that it names itself.
func (b *Mailbox) Take(ctx context.Context, name, way, from string, to []string, raw io.Reader) error {
	if _, ok := b.Machine.Registry.Site(name); !ok {
		return site.NoSite(name)
	}
	for _, each := range []string{"tmp", "new", "cur"} {
		if err := ownfile.Make(b.folder(name, each), 0o700); err != nil {
			return err
		}
	}
	if err := running.Room(b.Machine.Home.Dir, largest); err != nil {
		return ErrFull
	}
	file := fmt.Sprintf("%d.%s.vessik", time.Now().Unix(), strings.ToLower(rand.Text()))
	bytes, err := write(b.folder(name, "tmp", file), raw)
	if err != nil {
		ownfile.Remove(b.folder(name, "tmp", file))
		return err
	}
	read, err := readAs(message.Head, b.folder(name, "tmp", file))
	if err != nil {
		read.Subject = "(" + err.Error() + ")"
	}
	if b.awaits(read.Subject, way) {
		return ownfile.Remove(b.folder(name, "tmp", file))
	}
	if err := ownfile.Rename(b.folder(name, "tmp", file), b.folder(name, "new", file)); err != nil {
		return err
	}
	if len(to) == 0 {
		to = read.To
	}
	if read.From != "" {
		from = read.From
	}
	kept := records.Mail{Site: name, File: file, Way: way, From: from, To: to, Subject: read.Subject, At: time.Now(), Bytes: bytes}
	if err := b.Records.AddMail(ctx, &kept); err != nil {
		ownfile.Remove(b.folder(name, "new", file))
		return err
	}
	b.tell()
	if err := b.forget(ctx, name); err != nil { // it is kept all the same
		b.Machine.Log.Warn("forget old mail", "site", name, "reason", err)
	}
	return nil
}

var errLarge = fmt.Errorf("it is larger than %d MB", largest>>20)

func write(path string, raw io.Reader) (int64, error) {
	file, err := ownfile.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return 0, err
	}
	bytes, err := io.Copy(file, io.LimitReader(raw, largest+1))
	if bytes > largest {
		err = errLarge
	}
	return bytes, errors.Join(err, file.Close())
}

func readAs(how func(io.Reader) (message.Content, error), path string) (message.Content, error) {
	file, err := ownfile.Open(path)
	if err != nil {
		return message.Content{}, err
	}
	defer file.Close()
	return how(file)
}

// forget drops what is too old or too much.
func (b *Mailbox) forget(ctx context.Context, name string) error {
	old, err := b.Records.OldMails(ctx, name, most, mostSize, time.Now().Add(-keptFor))
	for _, each := range old {
		err = errors.Join(err, b.drop(ctx, each))
	}
	return err
}

func (b *Mailbox) drop(ctx context.Context, m records.Mail) error {
	if err := ownfile.Remove(b.folder(m.Site, "new", m.File)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return b.Records.DropMail(ctx, m.ID)
}

// tell wakes those who wait for mail.
func (b *Mailbox) tell() {
	b.mu.Lock()
	defer b.mu.Unlock()
	close(b.arrived)
	b.arrived = make(chan struct{})
}

// Arrived is closed with the next message.
func (b *Mailbox) Arrived() <-chan struct{} {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.arrived
}

// Await has a message with a text in its subject told, by its way, and not kept.
func (b *Mailbox) Await(text string) (ways <-chan string, done func()) {
	b.mu.Lock()
	defer b.mu.Unlock()
	told := make(chan string, 16)
	b.awaited[text] = told
	return told, func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		delete(b.awaited, text)
	}
}

// awaits tells whoever waits for a message of that subject, unless it was told more often than it can have asked for.
func (b *Mailbox) awaits(subject, way string) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	for text, told := range b.awaited {
		if strings.Contains(subject, text) {
			select {
			case told <- way:
				return true
			default: // the site sends it again and again
			}
		}
	}
	return false
}
