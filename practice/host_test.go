package practice

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"vessik/client"
)

// A host that ends gives its doors free, and opens them again.
func TestDoorsAreOpenedAgain(t *testing.T) {
	h, err := Open(t.TempDir(), nil, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	doors, err := OpenDoors(0, 0, 0)
	require.NoError(t, err)
	ssh, ftp := doors.SSH.Addr().(*net.TCPAddr), doors.FTP.Addr().(*net.TCPAddr)
	for range 3 {
		ctx, cancel := context.WithCancel(context.Background())
		ended := make(chan error, 1)
		go func() { ended <- h.Serve(ctx, doors) }()
		for _, at := range []*net.TCPAddr{ssh, ftp} {
			require.Eventually(t, func() bool {
				connection, err := net.Dial("tcp", at.String())
				if err != nil {
					return false
				}
				defer connection.Close()
				head := make([]byte, 3)
				_, err = connection.Read(head)
				return err == nil
			}, 5*time.Second, 10*time.Millisecond)
		}
		cancel()
		assert.NoError(t, <-ended)
		doors, err = OpenDoors(ssh.Port, ftp.Port, 0)
		require.NoError(t, err)
	}
}

// rented is a host with one customer, whose folder holds some files.
func rented(t *testing.T) (h *Host, e Environment, doors Doors) {
	t.Helper()
	h, err := Open(filepath.Join(t.TempDir(), "host"), nil, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "index.php"), []byte("<?php"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "long.bin"), make([]byte, 1<<20), 0o644))
	e, err = h.Rent(client.Site{Name: "orchard-live", URL: "http://orchard-live.localhost/", Folder: folder}, "orchard", "live")
	require.NoError(t, err)
	doors, err = OpenDoors(0, 0, 0)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- h.Serve(ctx, doors) }()
	t.Cleanup(func() {
		cancel()
		assert.NoError(t, <-ended)
	})
	return h, e, doors
}

func sftpOf(t *testing.T, e Environment, doors Doors, password string) (*sftp.Client, error) {
	t.Helper()
	connection, err := ssh.Dial("tcp", doors.SSH.Addr().String(), &ssh.ClientConfig{User: e.User, Timeout: 5 * time.Second,
		Auth: []ssh.AuthMethod{ssh.Password(password)}, HostKeyCallback: ssh.InsecureIgnoreHostKey()}) //nolint:gosec // it is ours
	if err != nil {
		return nil, err
	}
	t.Cleanup(func() { connection.Close() })
	return sftp.NewClient(connection)
}

// A customer has a folder, out of which nothing leads, and keeps the password.
func TestACustomerHasAFolder(t *testing.T) {
	h, e, doors := rented(t)
	_, err := sftpOf(t, e, doors, "guessed")
	require.Error(t, err)
	again, err := Open(h.Dir, nil, h.Log)
	require.NoError(t, err)
	kept, err := again.Rent(client.Site{Name: "orchard-live", Folder: e.Folder}, "orchard", "live")
	require.NoError(t, err)
	assert.Equal(t, e.Password, kept.Password)
	info, err := os.Stat(h.file())
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	c, err := sftpOf(t, e, doors, e.Password)
	require.NoError(t, err)
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("x"), 0o644))
	require.NoError(t, os.Symlink(secret, filepath.Join(e.Folder, "link")))
	for _, path := range []string{"/link", "/../../../../" + secret, secret} {
		_, err := c.Open(path)
		assert.Error(t, err, path)
	}
	require.NoError(t, c.MkdirAll("a/b"))
	to, err := c.Create("a/b/c.txt")
	require.NoError(t, err)
	_, err = to.Write([]byte("fern"))
	require.NoError(t, errors.Join(err, to.Close()))
	require.Error(t, c.Rename("a/b/c.txt", "index.php"), "what is there is not renamed away")
	require.NoError(t, c.PosixRename("a/b/c.txt", "index.php"))
	text, err := os.ReadFile(filepath.Join(e.Folder, "index.php"))
	require.NoError(t, err)
	assert.Equal(t, "fern", string(text))
	require.NoError(t, c.RemoveDirectory("a/b"))
	found, err := c.ReadDir("/")
	require.NoError(t, err)
	names := []string{}
	for _, each := range found {
		names = append(names, each.Name())
	}
	assert.ElementsMatch(t, []string{"a", "index.php", "link", "long.bin"}, names)
}

// Faults come when they are told to, and go again.
func TestFaultsOnDemand(t *testing.T) {
	h, e, doors := rented(t)
	write := func(name string, bytes int) error {
		c, err := sftpOf(t, e, doors, e.Password)
		if err != nil {
			return err
		}
		to, err := c.Create(name)
		if err != nil {
			return err
		}
		_, err = to.Write(make([]byte, bytes))
		return errors.Join(err, to.Close())
	}
	h.Fail(Faults{ReadOnly: true})
	require.ErrorIs(t, write("a", 1), os.ErrPermission)
	assert.NoFileExists(t, filepath.Join(e.Folder, "a"))
	h.Fail(Faults{Quota: 100_000})
	require.NoError(t, write("a", 60_000))
	require.Error(t, write("b", 60_000))
	require.Error(t, write("c", 60_000), "nor afterwards")
	h.Fail(Faults{})
	require.NoError(t, write("b", 60_000))

	h.Fail(Faults{CutAfter: 200_000, Cuts: 1})
	c, err := sftpOf(t, e, doors, e.Password)
	require.NoError(t, err)
	from, err := c.Open("long.bin")
	require.NoError(t, err)
	_, err = from.WriteTo(io.Discard)
	require.Error(t, err, "the line was cut")
	carried := h.Carried()
	c, err = sftpOf(t, e, doors, e.Password)
	require.NoError(t, err)
	from, err = c.Open("long.bin")
	require.NoError(t, err)
	n, err := from.WriteTo(io.Discard)
	require.NoError(t, err, "once is once")
	assert.Equal(t, int64(1<<20), n)
	assert.GreaterOrEqual(t, h.Carried()-carried, n)

	h.Fail(Faults{BytesPerSecond: 1 << 20})
	began := time.Now()
	from, err = c.Open("long.bin")
	require.NoError(t, err)
	_, err = from.WriteTo(io.Discard)
	require.NoError(t, err)
	assert.Greater(t, time.Since(began), 500*time.Millisecond)

	h.Fail(Faults{NoShell: true})
	connection, err := ssh.Dial("tcp", doors.SSH.Addr().String(), &ssh.ClientConfig{User: e.User,
		Auth:            []ssh.AuthMethod{ssh.Password(e.Password)},
		HostKeyCallback: ssh.InsecureIgnoreHostKey()}) //nolint:gosec // it is ours
	require.NoError(t, err)
	defer connection.Close()
	session, err := connection.NewSession()
	require.NoError(t, err)
	require.Error(t, session.Run("true"))
}

func TestPathsOfCustomers(t *testing.T) {
	for path, is := range map[string]string{"": ".", "/": ".", "/a/b": "a/b", "a/../../b": "b", "/../../etc": "etc", "./x/": "x"} {
		assert.Equal(t, is, below(path), path)
	}
}
