package mailbox

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/mail"
	"net/url"
	"strings"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/ownfile"
	"vessik/internal/records"
)

// serverPatience is how long a mail server may take for one message.
const serverPatience = 2 * time.Minute

const serverSealed = "mail server"

var errNoServer = fmt.Errorf("%w: no mail server is set that would deliver it; set yours: vessik mail-server "+
	"smtps://mail.example.org -user NAME -from ADDRESS", records.ErrNotFound)

func (b *Mailbox) serverFile() string { return b.Machine.Home.Path("mail-server") }

// Server is the user's mail server, by which one message at a time is handed on. Its password is for the service alone.
func (b *Mailbox) Server() (s wire.SetMailServer, err error) {
	sealed, err := ownfile.Read(b.serverFile())
	if errors.Is(err, fs.ErrNotExist) {
		return s, errNoServer
	}
	if err != nil {
		return s, err
	}
	key, err := b.Machine.Book.Key()
	if err != nil {
		return s, err
	}
	text, err := key.Open(serverSealed, sealed)
	if err != nil {
		return s, err
	}
	return s, json.Unmarshal(text, &s)
}

// SetServer keeps the user's mail server, once it has let the user in.
func (b *Mailbox) SetServer(ctx context.Context, s wire.SetMailServer) error {
	if problems := judgeServer(&s); len(problems) > 0 {
		return problems
	}
	client, err := dial(ctx, s)
	if err != nil {
		return site.Problems{{Field: "server", Message: err.Error(),
			Remedy: "See that its address, user and password are right; nothing was kept"}}
	}
	client.Quit()
	key, err := b.Machine.Book.Key()
	if err != nil {
		return err
	}
	text, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return ownfile.Write(b.serverFile(), key.Seal(serverSealed, text), 0o600)
}

// DropServer forgets it.
func (b *Mailbox) DropServer() error {
	if err := ownfile.Remove(b.serverFile()); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// judgeServer fills in what an address leaves out.
func judgeServer(s *wire.SetMailServer) (problems site.Problems) {
	address, err := url.Parse(s.Server)
	switch {
	case err != nil || address.Scheme != "smtp" && address.Scheme != "smtps" || address.Hostname() == "" || address.Path != "" ||
		address.User != nil:
		problems = append(problems, site.Problem{Field: "server", Message: fmt.Sprintf("%q is no address of a mail server", s.Server),
			Remedy: "Write smtps://HOST[:PORT], or smtp://HOST[:PORT] where TLS begins later; user and password stand beside it"})
	case address.Port() == "" && address.Scheme == "smtps":
		s.Server += ":465"
	case address.Port() == "":
		s.Server += ":587"
	}
	if s.From, err = oneAddress(s.From); err != nil {
		problems = append(problems, site.Problem{Field: "from", Message: err.Error(), Remedy: "Name the one address that this server sends for"})
	}
	return problems
}

func oneAddress(text string) (string, error) {
	read, err := mail.ParseAddress(text)
	if err != nil {
		return "", fmt.Errorf("%q is no mail address", text)
	}
	return read.Address, nil
}

// dial connects to a mail server and signs in. A password is never said to another machine without TLS.
func dial(ctx context.Context, s wire.SetMailServer) (client *smtp.Client, err error) {
	address, err := url.Parse(s.Server)
	if err != nil {
		return nil, err
	}
	secure := &tls.Config{ServerName: address.Hostname(), MinVersion: tls.VersionTLS12}
	reach := func() (connection net.Conn, err error) {
		within := &net.Dialer{Timeout: 20 * time.Second}
		if address.Scheme == "smtps" {
			connection, err = (&tls.Dialer{NetDialer: within, Config: secure}).DialContext(ctx, "tcp", address.Host)
		} else {
			connection, err = within.DialContext(ctx, "tcp", address.Host)
		}
		if err == nil {
			err = connection.SetDeadline(time.Now().Add(serverPatience))
		}
		return connection, err
	}
	connection, err := reach()
	if err != nil {
		return nil, err
	}
	client = smtp.NewClient(connection)
	defer func() {
		if err != nil && client != nil {
			client.Close()
		}
	}()
	client.CommandTimeout, client.SubmissionTimeout = 30*time.Second, serverPatience
	if begins, _ := client.Extension("STARTTLS"); begins && address.Scheme == "smtp" {
		client.Close()
		if connection, err = reach(); err != nil {
			return client, err
		}
		if client, err = smtp.NewClientStartTLS(connection, secure); err != nil {
			return nil, err // it has closed the connection
		}
	}
	if s.User == "" {
		return client, client.Noop()
	}
	if _, encrypted := client.TLSConnectionState(); !encrypted && !loopback(address.Hostname()) {
		return client, errors.New("it offers no TLS, and a password is not said to another machine without it")
	}
	return client, client.Auth(sasl.NewPlainClient("", s.User, s.Password))
}

func loopback(host string) bool { return host == "localhost" || net.ParseIP(host).IsLoopback() }

// HandOn sends one message on to a real address, by the user's own mail server, from the address that it sends for; the message says so
// (Resent-From, RFC 5322 3.6.6). preview only tells what would be sent.
func (b *Mailbox) HandOn(ctx context.Context, id int64, to string, preview bool) (wire.HandedOn, error) {
	found, err := b.find(ctx, id)
	if err != nil {
		return wire.HandedOn{}, err
	}
	server, err := b.Server()
	if err != nil {
		return wire.HandedOn{}, err
	}
	to, err = oneAddress(to)
	if err != nil {
		return wire.HandedOn{}, site.Problems{{Field: "to", Message: err.Error(), Remedy: "Name one real address that it is to go to"}}
	}
	told := wire.HandedOn{ID: id, Site: found.Site, Subject: found.Subject, Bytes: found.Bytes, From: server.From, To: to,
		Server: server.Server}
	if preview {
		return told, nil
	}
	raw, err := ownfile.Read(b.folder(found.Site, "new", found.File))
	if err != nil {
		return told, err
	}
	if err := send(ctx, server, to, raw); err != nil {
		return told, site.Problems{{Field: "server", Message: "it was not taken: " + err.Error(), Remedy: "Mend what it says, then try again"}}
	}
	told.Sent = true
	return told, nil
}

func send(ctx context.Context, server wire.SetMailServer, to string, raw []byte) error {
	client, err := dial(ctx, server)
	if err != nil {
		return err
	}
	defer client.Close()
	options := &smtp.MailOptions{}
	if can, _ := client.Extension("8BITMIME"); can {
		options.Body = smtp.Body8BitMIME
	}
	if err := client.Mail(server.From, options); err != nil {
		return err
	}
	if err := client.Rcpt(to, nil); err != nil {
		return err
	}
	body, err := client.Data()
	if err != nil {
		return err
	}
	_, domain, _ := strings.Cut(server.From, "@")
	head := fmt.Sprintf("Resent-Date: %s\r\nResent-From: <%s>\r\nResent-To: <%s>\r\nResent-Message-ID: <%s@%s>\r\n",
		time.Now().Format("Mon, 02 Jan 2006 15:04:05 -0700"), server.From, to, rand.Text(), domain)
	if _, err := body.Write(append([]byte(head), raw...)); err != nil {
		return err
	}
	if err := body.Close(); err != nil {
		return err
	}
	return client.Quit()
}
