package test

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"
	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
)

// mailProgram is a mail program on a site's mailbox.
func mailProgram(t *testing.T, access client.MailAccess, told *imapclient.UnilateralDataHandler) *imapclient.Client {
	t.Helper()
	address := net.JoinHostPort(access.Host, strconv.Itoa(access.Port))
	c, err := imapclient.DialInsecure(address, &imapclient.Options{UnilateralDataHandler: told})
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	return c
}

func TestAMailProgramReadsTheMail(t *testing.T) {
	s := shared(t)
	at := s.site(t, "seed-exchange")
	other, err := s.MailAccess(context.Background(), "fernhollow")
	require.NoError(t, err)
	out, _, code := s.cli("mail", "seed-exchange", "-imap")
	require.Zero(t, code)
	access, err := s.MailAccess(context.Background(), "seed-exchange")
	require.NoError(t, err)
	assert.Contains(t, out, access.Password)
	assert.NotEqual(t, other.Password, access.Password)
	post(t, at, "", `foreach (['Ferns', 'Mosses', 'Árvíztűrő'] as $each) {
		mail('visitor@real.example', '=?UTF-8?B?' . base64_encode($each) . '?=', "We open at nine.\n$each", 'From: keeper@kert.example');
	}`)
	mailOf(t, s, "seed-exchange", 3)

	stranger := mailProgram(t, access, nil)
	require.Error(t, stranger.Login(access.User, other.Password).Wait())
	_, err = stranger.Select("INBOX", nil).Wait()
	require.Error(t, err, "who is not let in reads nothing")
	arrived := make(chan uint32, 10)
	program := mailProgram(t, access, &imapclient.UnilateralDataHandler{Mailbox: func(data *imapclient.UnilateralDataMailbox) {
		if data.NumMessages != nil {
			arrived <- *data.NumMessages
		}
	}})
	require.NoError(t, program.Login(access.User, access.Password).Wait())
	folders, err := program.List("", "*", nil).Collect()
	require.NoError(t, err)
	require.Len(t, folders, 1)
	opened, err := program.Select("INBOX", nil).Wait()
	require.NoError(t, err)
	assert.Equal(t, uint32(3), opened.NumMessages)
	found, err := program.UIDSearch(&imap.SearchCriteria{Text: []string{"árvíz"}}, nil).Wait()
	require.NoError(t, err)
	require.Len(t, found.AllUIDs(), 1)
	section := &imap.FetchItemBodySection{}
	fetched, err := program.Fetch(found.All, &imap.FetchOptions{Envelope: true, Flags: true,
		BodySection: []*imap.FetchItemBodySection{section}}).Collect()
	require.NoError(t, err)
	require.Len(t, fetched, 1)
	assert.Equal(t, "Árvíztűrő", fetched[0].Envelope.Subject)
	assert.Equal(t, []imap.Flag{imap.FlagSeen}, fetched[0].Flags, "it was read")
	assert.Contains(t, string(fetched[0].FindBodySection(section)), "We open at nine.")
	unseen, err := program.Search(&imap.SearchCriteria{NotFlag: []imap.Flag{imap.FlagSeen},
		Header: []imap.SearchCriteriaHeaderField{{Key: "From", Value: "KEEPER@"}}}, nil).Wait()
	require.NoError(t, err)
	assert.Len(t, unseen.AllSeqNums(), 2)

	idle, err := program.Idle()
	require.NoError(t, err)
	post(t, at, "", `mail('visitor@real.example', 'Lichens', 'We open at ten.');`)
	select {
	case count := <-arrived:
		assert.Equal(t, uint32(4), count)
	case <-time.After(10 * time.Second):
		t.Error("a program that waits is not told of a new message")
	}
	require.NoError(t, idle.Close())
	_, err = program.Store(imap.SeqSetNum(1, 2), &imap.StoreFlags{Op: imap.StoreFlagsAdd, Flags: []imap.Flag{imap.FlagDeleted}}, nil).Collect()
	require.NoError(t, err)
	gone, err := program.Expunge().Collect()
	require.NoError(t, err)
	assert.Len(t, gone, 2)
	mailOf(t, s, "seed-exchange", 2)
	require.Error(t, program.Create("Drafts", nil).Wait())

	neverReads(t, access)
	require.NoError(t, program.Noop().Wait(), "another program is served meanwhile")
	handOn(t, s, mailOf(t, s, "seed-exchange", 2)[1])
	_, err = s.DropMails(context.Background(), "seed-exchange")
	require.NoError(t, err)
	require.NoError(t, program.Noop().Wait())
}

// neverReads asks for everything, again and again, and takes none of it.
func neverReads(t *testing.T, access client.MailAccess) {
	t.Helper()
	connection, err := net.Dial("tcp4", net.JoinHostPort(access.Host, strconv.Itoa(access.Port)))
	require.NoError(t, err)
	t.Cleanup(func() { connection.Close() })
	fmt.Fprintf(connection, "a LOGIN %s %s\r\nb SELECT INBOX\r\n", access.User, access.Password)
	connection.SetWriteDeadline(time.Now().Add(2 * time.Second))
	for {
		if _, err := fmt.Fprint(connection, "c FETCH 1:* (BODY[] BODY[] ENVELOPE BODYSTRUCTURE)\r\n"); err != nil {
			var late net.Error
			require.True(t, errors.As(err, &late) && late.Timeout(), err)
			return
		}
	}
}

// postOffice is a mail server of the world's: one user, one sender.
type postOffice struct {
	mu    sync.Mutex
	taken []string
}

func (p *postOffice) NewSession(*smtp.Conn) (smtp.Session, error) { return &posting{office: p}, nil }

type posting struct {
	office   *postOffice
	known    bool
	from, to string
}

func (p *posting) AuthMechanisms() []string { return []string{sasl.Plain} }
func (p *posting) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if p.known = user == "ada" && password == "garden-gate-77"; !p.known {
			return smtp.ErrAuthFailed
		}
		return nil
	}), nil
}
func (p *posting) Reset()        {}
func (p *posting) Logout() error { return nil }
func (p *posting) Mail(from string, _ *smtp.MailOptions) error {
	if p.from = from; !p.known {
		return smtp.ErrAuthRequired
	}
	return nil
}
func (p *posting) Rcpt(to string, _ *smtp.RcptOptions) error {
	if p.to = to; strings.HasPrefix(to, "nobody@") {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "there is nobody of that name"}
	}
	return nil
}
func (p *posting) Data(r io.Reader) error {
	text, err := io.ReadAll(r)
	p.office.mu.Lock()
	defer p.office.mu.Unlock()
	p.office.taken = append(p.office.taken, p.from+" "+p.to+"\n"+string(text))
	return err
}

// handOn sends one message on, by hand, to whom it is meant for, and nobody else.
func handOn(t *testing.T, s *service, m client.Mail) {
	t.Helper()
	office := &postOffice{}
	server := smtp.NewServer(office)
	server.AllowInsecureAuth = true
	listener, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	go server.Serve(listener)
	defer server.Close()
	id, address := fmt.Sprint(m.ID), "smtp://"+listener.Addr().String()

	_, errs, code := s.cli("mail", "-id", id, "-hand-on", "ada@real.example", "-yes")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "no mail server is set")
	t.Setenv("VESSIK_MAIL_PASSWORD", "wrong")
	_, errs, code = s.cli("mail-server", address, "-user", "ada", "-from", "ada@kert.example")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "nothing was kept")
	t.Setenv("VESSIK_MAIL_PASSWORD", "garden-gate-77")
	for wrong, says := range map[string]string{"ftp://kert.example": "no address of a mail server",
		"smtp://ada:x@127.0.0.1": "no address of a"} {
		_, errs, code = s.cli("mail-server", wrong, "-from", "ada@kert.example")
		assert.Equal(t, 2, code)
		assert.Contains(t, errs, says)
	}
	secured := httptest.NewUnstartedServer(nil)
	secured.StartTLS() // for its certificate, which nobody believes
	defer secured.Close()
	doubtful := smtp.NewServer(office)
	doubtful.TLSConfig = &tls.Config{Certificates: secured.TLS.Certificates}
	second, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	go doubtful.Serve(second)
	defer doubtful.Close()
	_, errs, code = s.cli("mail-server", "smtp://"+second.Addr().String(), "-user", "ada", "-from", "ada@kert.example")
	assert.Equal(t, 2, code)
	assert.Regexp(t, `certificate.*nothing was kept`, strings.ReplaceAll(errs, "\n", " "))
	_, errs, code = s.cli("mail-server", address, "-user", "ada", "-from", "Ada <ada@kert.example>")
	require.Zero(t, code, errs)
	out, _, _ := s.cli("mail-server")
	assert.Contains(t, out, address)
	assert.NotContains(t, out, "garden-gate-77")

	preview, err := s.HandOn(context.Background(), m.ID, "Ada <ada@real.example>", true)
	require.NoError(t, err)
	assert.Equal(t, "ada@kert.example → ada@real.example", preview.From+" → "+preview.To)
	_, errs, code = s.cli("mail", "-id", id, "-hand-on", "ada@real.example")
	assert.Equal(t, 2, code, "nobody is there to be asked")
	assert.Contains(t, errs, "-yes")
	assert.Empty(t, office.taken, "nothing is sent before")
	_, errs, code = s.cli("mail", "-id", id, "-hand-on", "nobody@real.example", "-yes")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "there is nobody of that name")
	out, errs, code = s.cli("mail", "-id", id, "-hand-on", "ada@real.example", "-yes")
	assert.Zero(t, code, errs)
	assert.Equal(t, "handed on to ada@real.example\n", out)
	require.Len(t, office.taken, 1)
	assert.Regexp(t, `(?s)^ada@kert.example ada@real.example\nResent-Date: .*\r\nResent-From: <ada@kert.example>\r\n.*We open at nine\.`,
		office.taken[0])
	_, errs, code = s.cli("mail-server", "-drop")
	assert.Zero(t, code, errs)
	_, _, code = s.cli("mail-server")
	assert.NotZero(t, code, "there is none any more")
}
