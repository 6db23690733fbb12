// Package hosting reaches hosting accounts: their files by SFTP or FTP, and what is behind them through a helper, a PHP file of ours that
// lies there for the time of a move. What a host tells is believed of nothing but the host.
package hosting

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/textproto"
	"os"
	"strings"
	"time"

	"vessik/internal/core/hosting"
	"vessik/internal/names"
	"vessik/internal/records"
)

// Line is a connection to an account. Paths are below its folder, with slashes. It is safe for concurrent use.
type Line interface {
	List(ctx context.Context, folder string) ([]Entry, error)
	// Read writes a file's content from a place on.
	Read(ctx context.Context, name string, from int64, to io.Writer) error
	// Write writes a file, in the place of one that is there.
	Write(ctx context.Context, name string, from io.Reader) error
	Rename(ctx context.Context, from, to string) error
	Remove(ctx context.Context, name string) error
	MakeFolder(ctx context.Context, name string) error
	RemoveFolder(ctx context.Context, name string) error
	// Shell runs a command in the account's folder; ErrNoShell where the account has none.
	Shell(ctx context.Context, command string, in io.Reader, out io.Writer) error
	// Parallel is how many files may be carried at a time.
	Parallel() int
	Close() error
}

// Entry is one thing in a folder of a host.
type Entry struct {
	Path       string // below the account's folder
	Folder     bool
	Regular    bool
	Executable bool
	Size       int64
	Modified   time.Time // to the second
}

// ErrNoShell says that an account runs no commands.
var ErrNoShell = errors.New("this account has no shell")

// HostKeyError says that a host showed another key than the pinned one.
type HostKeyError struct{ Pinned, Shown string }

func (e *HostKeyError) Error() string {
	return fmt.Sprintf("the host shows another key than before (%s, and was %s): somebody may stand between", e.Shown, e.Pinned)
}

// SignInError says that a host did not let the user in.
type SignInError struct{ Reason error }

func (e *SignInError) Error() string { return "the host did not let the user in: " + e.Reason.Error() }

func (e *SignInError) Unwrap() error { return e.Reason }

// How long a host is waited for: until it is connected, and without a word from it.
const (
	dialTimeout = 15 * time.Second
	idleTimeout = 45 * time.Second
)

// Dial connects to an account. The fingerprint that the host showed is returned where none is pinned yet; a pinned one that differs is a
// HostKeyError.
func Dial(ctx context.Context, a records.Account) (line Line, fingerprint string, err error) {
	place, err := hosting.ParsePlace(a.At)
	if err != nil {
		return nil, "", err
	}
	if place.Scheme == hosting.SFTP {
		return dialSFTP(ctx, a, place)
	}
	return dialFTP(ctx, a, place)
}

// pin is asked of the fingerprint that a host shows.
type pin struct{ pinned, shown string }

func (p *pin) judge(raw []byte) error {
	sum := sha256.Sum256(raw)
	p.shown = "SHA256:" + strings.TrimRight(base64.StdEncoding.EncodeToString(sum[:]), "=")
	if p.pinned != "" && p.pinned != p.shown {
		return &HostKeyError{p.pinned, p.shown}
	}
	return nil
}

// dial connects to a host.
func dial(ctx context.Context, network, address string) (net.Conn, error) {
	connection, err := names.Dial(ctx, network, address, dialTimeout)
	if err != nil {
		return nil, err
	}
	return &awake{connection}, nil
}

// awake is a connection that is given up when the other end says nothing for too long.
type awake struct{ net.Conn }

func (a *awake) Read(text []byte) (int, error) {
	if err := a.SetReadDeadline(time.Now().Add(idleTimeout)); err != nil {
		return 0, err
	}
	return a.Conn.Read(text)
}

func (a *awake) Write(text []byte) (int, error) {
	if err := a.SetWriteDeadline(time.Now().Add(idleTimeout)); err != nil {
		return 0, err
	}
	return a.Conn.Write(text)
}

// Cut tells whether a line was cut, so that it is worth trying again.
func Cut(err error) bool {
	var network net.Error
	var answered *textproto.Error
	if errors.As(err, &answered) { // RFC 959: these are to be tried again
		return answered.Code >= 400 && answered.Code < 500
	}
	return errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.As(err, &network) || errors.Is(err, net.ErrClosed) ||
		errors.Is(err, errLost) || errors.Is(err, os.ErrDeadlineExceeded)
}

// Unreadable tells whether a host does not give out a file, or has it no more.
func Unreadable(err error) bool {
	var answered *textproto.Error
	return errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) || errors.As(err, &answered) && answered.Code == 550
}

// errLost says that a connection broke off.
var errLost = errors.New("the connection to the host was lost")
