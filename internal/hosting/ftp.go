package hosting

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"io"
	"net"
	"net/textproto"
	"path"
	"strings"
	"sync"

	"github.com/jlaffaye/ftp"

	"vessik/internal/core/hosting"
	"vessik/internal/records"
)

// ftpParallel is how many connections an account has at most: hosts bear few.
const ftpParallel = 4

// ftpLine is some connections by FTP, each of which does one thing at a time.
type ftpLine struct {
	place   hosting.Place
	options func(ctx context.Context) []ftp.DialOption
	account records.Account
	tokens  chan struct{}
	mu      sync.Mutex
	idle    []*ftp.ServerConn
}

func dialFTP(ctx context.Context, a records.Account, place hosting.Place) (Line, string, error) {
	seen := &pin{pinned: a.HostKey}
	secure := &tls.Config{InsecureSkipVerify: true, ClientSessionCache: tls.NewLRUClientSessionCache(ftpParallel),
		//nolint:gosec // judged below
		ServerName: hostOf(place.Host), VerifyConnection: func(state tls.ConnectionState) error { return judgeCertificate(state, seen) }}
	l := &ftpLine{place: place, account: a, tokens: make(chan struct{}, ftpParallel), options: func(ctx context.Context) []ftp.DialOption {
		plain := place.Scheme == hosting.FTPS && !place.Implicit // what is said first, until TLS is asked for
		options := []ftp.DialOption{ftp.DialWithShutTimeout(dialTimeout), ftp.DialWithDialFunc(func(network, address string) (net.Conn, error) {
			connection, err := dial(ctx, network, address)
			if err == nil && place.Scheme == hosting.FTPS && !plain {
				return tls.Client(connection, secure), nil
			}
			plain = false
			return connection, err
		})}
		switch {
		case place.Implicit:
			options = append(options, ftp.DialWithTLS(secure))
		case place.Scheme == hosting.FTPS:
			options = append(options, ftp.DialWithExplicitTLS(secure))
		}
		return options
	}}
	connection, err := l.open(ctx)
	if err != nil {
		return nil, seen.shown, err
	}
	l.idle = append(l.idle, connection)
	return l, seen.shown, nil
}

// judgeCertificate takes one that an authority of this machine vouches for, and pins any other one.
func judgeCertificate(state tls.ConnectionState, seen *pin) error {
	if len(state.PeerCertificates) == 0 {
		return errors.New("the host shows no certificate")
	}
	others := x509.NewCertPool()
	for _, each := range state.PeerCertificates[1:] {
		others.AddCert(each)
	}
	if _, err := state.PeerCertificates[0].Verify(x509.VerifyOptions{DNSName: state.ServerName, Intermediates: others}); err == nil {
		return nil
	}
	return seen.judge(state.PeerCertificates[0].Raw)
}

func hostOf(address string) string {
	host, _, _ := net.SplitHostPort(address)
	return host
}

func (l *ftpLine) open(ctx context.Context) (*ftp.ServerConn, error) {
	connection, err := ftp.Dial(l.place.Host, l.options(ctx)...)
	if err != nil {
		var changed *HostKeyError
		if errors.As(err, &changed) {
			return nil, changed
		}
		return nil, err
	}
	if err := connection.Login(l.place.User, l.account.Secrets.Password); err != nil {
		connection.Quit()
		var answered *textproto.Error
		if errors.As(err, &answered) {
			return nil, &SignInError{err}
		}
		return nil, err
	}
	return connection, nil
}

// with does something on a connection that nobody else uses meanwhile; one on which something failed is not used again.
func (l *ftpLine) with(ctx context.Context, do func(*ftp.ServerConn) error) error {
	select {
	case l.tokens <- struct{}{}:
		defer func() { <-l.tokens }()
	case <-ctx.Done():
		return ctx.Err()
	}
	l.mu.Lock()
	var connection *ftp.ServerConn
	if last := len(l.idle) - 1; last >= 0 {
		connection, l.idle = l.idle[last], l.idle[:last]
	}
	l.mu.Unlock()
	if connection == nil {
		var err error
		if connection, err = l.open(ctx); err != nil {
			return err
		}
	}
	err := do(connection)
	var answered *textproto.Error
	if err == nil || errors.As(err, &answered) && answered.Code >= ftp.StatusBadCommand {
		l.mu.Lock()
		defer l.mu.Unlock()
		l.idle = append(l.idle, connection)
		return err
	}
	connection.Quit()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return err
}

func (l *ftpLine) whole(name string) string { return path.Join(l.place.Folder, name) }

func (l *ftpLine) List(ctx context.Context, folder string) (all []Entry, err error) {
	err = l.with(ctx, func(c *ftp.ServerConn) error {
		found, err := c.List(l.whole(folder))
		for _, each := range found {
			if each.Name == "." || each.Name == ".." || strings.ContainsAny(each.Name, "/\x00") {
				continue
			}
			all = append(all, Entry{Path: path.Join(folder, each.Name), Folder: each.Type == ftp.EntryTypeFolder,
				Regular: each.Type == ftp.EntryTypeFile, Size: int64(each.Size), Modified: each.Time})
		}
		return err
	})
	return all, err
}

func (l *ftpLine) Read(ctx context.Context, name string, from int64, to io.Writer) error {
	return l.with(ctx, func(c *ftp.ServerConn) error {
		answer, err := c.RetrFrom(l.whole(name), uint64(max(from, 0)))
		if err != nil {
			return err
		}
		stop := context.AfterFunc(ctx, func() { answer.Close() })
		defer stop()
		_, err = io.Copy(to, answer)
		return errors.Join(err, answer.Close())
	})
}

func (l *ftpLine) Write(ctx context.Context, name string, from io.Reader) error {
	return l.with(ctx, func(c *ftp.ServerConn) error { return c.Stor(l.whole(name), from) })
}

func (l *ftpLine) Rename(ctx context.Context, from, to string) error {
	return l.with(ctx, func(c *ftp.ServerConn) error { return c.Rename(l.whole(from), l.whole(to)) })
}

func (l *ftpLine) Remove(ctx context.Context, name string) error {
	return l.with(ctx, func(c *ftp.ServerConn) error { return c.Delete(l.whole(name)) })
}

// MakeFolder makes a folder with those that lead there; one that is there is no fault.
func (l *ftpLine) MakeFolder(ctx context.Context, name string) error {
	return l.with(ctx, func(c *ftp.ServerConn) error {
		below := l.place.Folder
		for _, part := range strings.Split(path.Clean(name), "/") {
			below = path.Join(below, part)
			if err := c.MakeDir(below); err != nil {
				var answered *textproto.Error
				if !errors.As(err, &answered) || answered.Code != ftp.StatusFileUnavailable {
					return err
				}
			}
		}
		return nil
	})
}

func (l *ftpLine) RemoveFolder(ctx context.Context, name string) error {
	return l.with(ctx, func(c *ftp.ServerConn) error { return c.RemoveDir(l.whole(name)) })
}

func (l *ftpLine) Shell(context.Context, string, io.Reader, io.Writer) error { return ErrNoShell }

func (l *ftpLine) Parallel() int { return ftpParallel }

func (l *ftpLine) Close() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, each := range l.idle {
		each.Quit()
	}
	l.idle = nil
	return nil
}
