package mailbox

import (
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"strconv"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
	"golang.org/x/net/netutil"

	"vessik/internal/core/site"
)

// Ports at which mail servers listen: by plain SMTP, which may begin TLS, and by TLS from the start.
var (
	plainPorts  = map[uint16]bool{25: true, 26: true, 587: true, 588: true, 1025: true, 2525: true, 2526: true, 2587: true}
	securePorts = map[uint16]bool{465: true, 2465: true}
)

// Bounds of what one site's programs may ask of its server at once.
const (
	connections = 50
	recipients  = 1000
	idle        = 2 * time.Minute
)

// server is the mail server that one site meets wherever it sends mail to.
type server struct {
	smtp          *smtp.Server
	plain, secure int // ports on 127.0.0.1 and ::1
}

// Port is where a connection of a site's to a port of a mail server leads: the site's own server, which is opened when it is first asked
// for. is tells whether it is such a port; where there is no server to be had, port is 0, and the connection leads nowhere.
func (b *Mailbox) Port(name string, to uint16) (port int, is bool) {
	if !plainPorts[to] && !securePorts[to] {
		return 0, false
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	s := b.servers[name]
	if s == nil {
		var err error
		if s, err = b.open(name); err != nil {
			b.Machine.Log.Error("open a mail server", "site", name, "reason", err)
			return 0, true
		}
		b.servers[name] = s
	}
	if securePorts[to] {
		return s.secure, true
	}
	return s.plain, true
}

func (b *Mailbox) open(name string) (*server, error) {
	s := &server{smtp: smtp.NewServer(backend{b, name})}
	s.smtp.Domain = "mail.vessik.invalid"
	s.smtp.TLSConfig = &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
		host := hello.ServerName
		if !site.IsHostName(host) {
			host = s.smtp.Domain
		}
		return b.Authority.Certificate([]string{host})
	}}
	s.smtp.AllowInsecureAuth, s.smtp.EnableSMTPUTF8, s.smtp.EnableBINARYMIME, s.smtp.EnableDSN = true, true, true, true
	s.smtp.MaxMessageBytes, s.smtp.MaxRecipients, s.smtp.MaxLineLength = largest, recipients, 64<<10
	s.smtp.ReadTimeout, s.smtp.WriteTimeout = idle, idle
	s.smtp.ErrorLog = silent{}
	var err error
	if s.plain, err = b.listen(s.smtp, false); err != nil {
		return nil, err
	}
	if s.secure, err = b.listen(s.smtp, true); err != nil {
		s.smtp.Close()
		return nil, err
	}
	return s, nil
}

// listen has a server listen on a free port of both loopback addresses.
func (b *Mailbox) listen(server *smtp.Server, secure bool) (port int, err error) {
	first, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	port = first.Addr().(*net.TCPAddr).Port
	listeners := []net.Listener{first}
	if second, err := net.Listen("tcp6", net.JoinHostPort("::1", strconv.Itoa(port))); err == nil {
		listeners = append(listeners, second)
	}
	for _, each := range listeners {
		each = netutil.LimitListener(each, connections)
		if secure {
			each = tls.NewListener(each, server.TLSConfig)
		}
		b.Machine.Work.Go(func() { server.Serve(each) })
	}
	return port, nil
}

// close ends all servers.
func (b *Mailbox) close() {
	b.mu.Lock()
	defer b.mu.Unlock()
	for name, each := range b.servers {
		each.smtp.Close()
		delete(b.servers, name)
	}
	if b.imap != nil {
		b.imap.Close()
	}
}

// closeStrangers ends the servers, and forgets the spools, of sites that are gone, or are called otherwise now.
func (b *Mailbox) closeStrangers() {
	b.mu.Lock()
	defer b.mu.Unlock()
	for name, each := range b.servers {
		if _, known := b.Machine.Registry.Site(name); !known {
			each.smtp.Close()
			delete(b.servers, name)
		}
	}
	for name := range b.spools {
		if _, known := b.Machine.Registry.Site(name); !known {
			delete(b.spools, name)
		}
	}
}

// silent says nothing of clients that end in the middle.
type silent struct{}

func (silent) Printf(string, ...any) {}
func (silent) Println(...any)        {}

// backend is whom a site's connections speak to.
type backend struct {
	mailbox *Mailbox
	name    string
}

func (b backend) NewSession(*smtp.Conn) (smtp.Session, error) { return &session{backend: b}, nil }

// session is one connection. It lets anybody in who says any name and any password.
type session struct {
	backend
	from string
	to   []string
}

func (s *session) AuthMechanisms() []string { return []string{sasl.Plain, sasl.Login} }

func (s *session) Auth(mechanism string) (sasl.Server, error) {
	if mechanism == sasl.Login {
		return &login{}, nil
	}
	return sasl.NewPlainServer(func(_, _, _ string) error { return nil }), nil
}

// login is the mechanism of that name, which has no standard: two questions.
type login struct{ asked int }

func (l *login) Next(response []byte) (challenge []byte, done bool, err error) {
	if response != nil && l.asked == 0 { // the name came with the command
		l.asked = 1
	}
	l.asked++
	switch l.asked {
	case 1:
		return []byte("Username:"), false, nil
	case 2:
		return []byte("Password:"), false, nil
	}
	return nil, true, nil
}

func (s *session) Reset()        { s.from, s.to = "", nil }
func (s *session) Logout() error { return nil }

func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	s.from = from
	return nil
}

func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.to = append(s.to, to)
	return nil
}

func (s *session) Data(raw io.Reader) error {
	ctx, cancel := context.WithTimeout(s.mailbox.Machine.Work.Context(), time.Minute)
	defer cancel()
	err := s.mailbox.Take(ctx, s.name, BySMTP, s.from, s.to, raw)
	switch {
	case errors.Is(err, ErrFull):
		return &smtp.SMTPError{Code: 452, EnhancedCode: smtp.EnhancedCode{4, 3, 1}, Message: "there is no room for it on this machine's disk"}
	case errors.As(err, new(*smtp.SMTPError)): // as the reader says, such as of one that is too large
		return err
	case err != nil:
		s.mailbox.Machine.Log.Error("keep a message", "site", s.name, "reason", err)
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 0}, Message: "it could not be kept"}
	}
	return nil
}
