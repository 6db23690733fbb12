package hosting

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path"
	"strings"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"vessik/internal/core/hosting"
	"vessik/internal/records"
)

// sftpLine is a connection by SSH, with its file transfer.
type sftpLine struct {
	place  hosting.Place
	ssh    *ssh.Client
	files  *sftp.Client
	closed chan struct{}
}

func dialSFTP(ctx context.Context, a records.Account, place hosting.Place) (Line, string, error) {
	methods, done, err := signIn(a)
	if err != nil {
		return nil, "", err
	}
	defer done()
	seen := &pin{pinned: a.HostKey}
	config := &ssh.ClientConfig{User: place.User, Auth: methods, Timeout: dialTimeout, ClientVersion: "SSH-2.0-Vessik",
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error { return seen.judge(key.Marshal()) }}
	connection, err := dial(ctx, "tcp", place.Host)
	if err != nil {
		return nil, "", err
	}
	stop := context.AfterFunc(ctx, func() { connection.Close() })
	defer stop()
	secured, channels, requests, err := ssh.NewClientConn(connection, place.Host, config)
	if err != nil {
		connection.Close()
		var changed *HostKeyError
		switch {
		case errors.As(err, &changed):
			return nil, seen.shown, changed
		case strings.Contains(err.Error(), "unable to authenticate"): // the package has no type for it
			return nil, seen.shown, &SignInError{errors.New("its password, key or agent was not taken")}
		}
		return nil, seen.shown, err
	}
	l := &sftpLine{place: place, ssh: ssh.NewClient(secured, channels, requests), closed: make(chan struct{})}
	if l.files, err = sftp.NewClient(l.ssh, sftp.UseConcurrentReads(true), sftp.UseConcurrentWrites(true)); err != nil {
		l.ssh.Close()
		return nil, seen.shown, fmt.Errorf("the host offers no SFTP: %w", err)
	}
	go l.stayAwake()
	return l, seen.shown, nil
}

// signIn are the ways in which an account signs in; done ends what was opened for them.
func signIn(a records.Account) (methods []ssh.AuthMethod, done func(), err error) {
	done = func() {}
	if a.Secrets.Key != "" {
		signer, err := ssh.ParsePrivateKey([]byte(a.Secrets.Key))
		var locked *ssh.PassphraseMissingError
		if errors.As(err, &locked) {
			signer, err = ssh.ParsePrivateKeyWithPassphrase([]byte(a.Secrets.Key), []byte(a.Secrets.Password))
		}
		if err != nil {
			return nil, done, fmt.Errorf("the key cannot be read: %w", err)
		}
		methods = append(methods, ssh.PublicKeys(signer))
	}
	if a.Agent != "" {
		socket, err := net.DialTimeout("unix", a.Agent, dialTimeout)
		if err != nil {
			return nil, done, fmt.Errorf("the SSH agent does not answer: %w", err)
		}
		done = func() { socket.Close() }
		methods = append(methods, ssh.PublicKeysCallback(agent.NewClient(socket).Signers))
	}
	if password := a.Secrets.Password; password != "" {
		methods = append(methods, ssh.Password(password), ssh.KeyboardInteractive(
			func(_, _ string, questions []string, _ []bool) ([]string, error) {
				answers := make([]string, len(questions))
				for i := range answers {
					answers[i] = password
				}
				return answers, nil
			}))
	}
	return methods, done, nil
}

// stayAwake asks something now and then, so that a line on which nothing is carried is not given up.
func (l *sftpLine) stayAwake() {
	every := time.NewTicker(idleTimeout / 3)
	defer every.Stop()
	for {
		select {
		case <-every.C:
			if _, _, err := l.ssh.SendRequest("keepalive@openssh.com", true, nil); err != nil {
				return
			}
		case <-l.closed:
			return
		}
	}
}

func (l *sftpLine) whole(name string) string { return path.Join(l.place.Folder, name) }

func (l *sftpLine) List(ctx context.Context, folder string) ([]Entry, error) {
	found, err := l.files.ReadDirContext(ctx, l.whole(folder))
	if err != nil {
		return nil, lost(err)
	}
	all := make([]Entry, 0, len(found))
	for _, each := range found {
		all = append(all, entryOf(path.Join(folder, each.Name()), each))
	}
	return all, nil
}

func entryOf(below string, info fs.FileInfo) Entry {
	return Entry{Path: below, Folder: info.IsDir(), Regular: info.Mode().IsRegular(), Executable: info.Mode()&0o111 != 0, Size: info.Size(),
		Modified: info.ModTime().Truncate(time.Second)}
}

func (l *sftpLine) Read(ctx context.Context, name string, from int64, to io.Writer) error {
	file, err := l.files.Open(l.whole(name))
	if err != nil {
		return lost(err)
	}
	defer file.Close()
	stop := context.AfterFunc(ctx, func() { file.Close() })
	defer stop()
	if _, err := file.Seek(from, io.SeekStart); err != nil {
		return lost(err)
	}
	if _, err = file.WriteTo(to); err != nil && ctx.Err() != nil {
		return ctx.Err()
	}
	return lost(err)
}

func (l *sftpLine) Write(ctx context.Context, name string, from io.Reader) error {
	file, err := l.files.OpenFile(l.whole(name), os.O_WRONLY|os.O_CREATE|os.O_TRUNC)
	if err != nil {
		return lost(err)
	}
	stop := context.AfterFunc(ctx, func() { file.Close() })
	defer stop()
	_, err = file.ReadFrom(from)
	if err = errors.Join(err, file.Close()); err != nil && ctx.Err() != nil {
		return ctx.Err()
	}
	return lost(err)
}

// Rename puts a file in the place of another one, where the host can do that in one step.
func (l *sftpLine) Rename(_ context.Context, from, to string) error {
	err := l.files.PosixRename(l.whole(from), l.whole(to))
	var status *sftp.StatusError
	if errors.As(err, &status) && status.FxCode() == sftp.ErrSSHFxOpUnsupported {
		err = l.files.Rename(l.whole(from), l.whole(to))
	}
	return lost(err)
}

func (l *sftpLine) Remove(_ context.Context, name string) error {
	return lost(l.files.Remove(l.whole(name)))
}

func (l *sftpLine) MakeFolder(_ context.Context, name string) error {
	return lost(l.files.MkdirAll(l.whole(name)))
}

func (l *sftpLine) RemoveFolder(_ context.Context, name string) error {
	return lost(l.files.RemoveDirectory(l.whole(name)))
}

func (l *sftpLine) Shell(ctx context.Context, command string, in io.Reader, out io.Writer) error {
	session, err := l.ssh.NewSession()
	if err != nil {
		return ErrNoShell
	}
	defer session.Close()
	stop := context.AfterFunc(ctx, func() { session.Close() })
	defer stop()
	session.Stdin, session.Stdout = in, out
	err = session.Run(command)
	var refused *ssh.ExitError
	var missing *ssh.ExitMissingError
	if err != nil && !errors.As(err, &refused) && !errors.As(err, &missing) {
		return ErrNoShell
	}
	return err
}

func (l *sftpLine) Parallel() int { return 16 }

func (l *sftpLine) Close() error {
	close(l.closed)
	err := l.ssh.Close() // first: the other end need not answer
	l.files.Close()
	return err
}

// lost makes of a connection that broke off what Cut knows.
func lost(err error) error {
	if errors.Is(err, sftp.ErrSSHFxConnectionLost) || errors.Is(err, io.ErrClosedPipe) {
		return errors.Join(errLost, err)
	}
	return err
}
