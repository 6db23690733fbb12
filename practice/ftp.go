package practice

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"io"
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"goftp.io/server/v2"

	"vessik/internal/ownfile"
)

// serveFTP lets customers in by FTP. The package listens itself where it is to know TLS, so that the port is given free for it.
func (h *Host) serveFTP(ctx context.Context, listener net.Listener) error {
	port := listener.Addr().(*net.TCPAddr).Port
	if err := listener.Close(); err != nil {
		return err
	}
	certificate, err := h.ownCertificate()
	if err != nil {
		return err
	}
	door := &ftpDoor{h}
	ftp, err := server.NewServer(&server.Options{Name: "practice host", Hostname: "127.0.0.1", Port: port, PublicIP: "127.0.0.1",
		Driver: door, Auth: door,
		Perm: server.NewSimplePerm("customer", "customers"), Logger: &server.DiscardLogger{}, ExplicitFTPS: true, TLS: true,
		TLSConfig: &tls.Config{Certificates: []tls.Certificate{certificate}, MinVersion: tls.VersionTLS12}})
	if err != nil {
		return err
	}
	over := make(chan struct{})
	defer close(over)
	stop := context.AfterFunc(ctx, func() {
		for { // again, where it is told to end before it has begun
			ftp.Shutdown()
			select {
			case <-over:
				return
			case <-time.After(20 * time.Millisecond):
			}
		}
	})
	defer stop()
	for until := time.Now().Add(5 * time.Second); ; {
		err := ftp.ListenAndServe()
		switch {
		case ctx.Err() != nil:
			return nil
		case !errors.Is(err, syscall.EADDRINUSE) || time.Now().After(until): // a program that is being started has the door open for a moment
			return err
		}
		<-time.After(20 * time.Millisecond)
	}
}

// ownCertificate is one that nobody vouches for, as many hosts have for FTP. It is made at the first use.
func (h *Host) ownCertificate() (c tls.Certificate, err error) {
	file := filepath.Join(h.Dir, "ftp.pem")
	text, err := ownfile.Read(file)
	if errors.Is(err, fs.ErrNotExist) {
		if text, err = drawCertificate(); err == nil {
			err = ownfile.Write(file, text, 0o600)
		}
	}
	if err != nil {
		return c, err
	}
	return tls.X509KeyPair(text, text)
}

func drawCertificate() ([]byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	of := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "practice host"},
		DNSNames: []string{"localhost"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(10, 0, 0)}
	raw, err := x509.CreateCertificate(rand.Reader, of, of, key.Public(), key)
	if err != nil {
		return nil, err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: raw}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})...), nil
}

// ftpDoor serves the folders of customers by FTP.
type ftpDoor struct{ host *Host }

func (d *ftpDoor) CheckPasswd(_ *server.Context, user, password string) (bool, error) {
	_, ok := d.host.signIn(user, password)
	return ok, nil
}

func (d *ftpDoor) in(c *server.Context, do func(*os.Root) error) error {
	root, err := d.host.environment(c.Sess.LoginUser()).root()
	if err != nil {
		return err
	}
	defer root.Close()
	return do(root)
}

// change is in, where something is to be changed.
func (d *ftpDoor) change(c *server.Context, do func(*os.Root) error) error {
	if err := d.host.faults.mayWrite(0); err != nil {
		return err
	}
	return d.in(c, do)
}

func (d *ftpDoor) Stat(c *server.Context, path string) (info os.FileInfo, err error) {
	return info, d.in(c, func(root *os.Root) error { info, err = root.Lstat(below(path)); return err })
}

func (d *ftpDoor) ListDir(c *server.Context, path string, visit func(os.FileInfo) error) error {
	return d.in(c, func(root *os.Root) error {
		folder, err := root.Open(below(path))
		if err != nil {
			return err
		}
		defer folder.Close()
		found, err := folder.Readdir(-1)
		for _, each := range found {
			err = errors.Join(err, visit(each))
		}
		return err
	})
}

func (d *ftpDoor) DeleteDir(c *server.Context, path string) error { return d.DeleteFile(c, path) }

func (d *ftpDoor) DeleteFile(c *server.Context, path string) error {
	return d.change(c, func(root *os.Root) error { return root.Remove(below(path)) })
}

func (d *ftpDoor) Rename(c *server.Context, from, to string) error {
	return d.change(c, func(root *os.Root) error { return root.Rename(below(from), below(to)) })
}

func (d *ftpDoor) MakeDir(c *server.Context, path string) error {
	return d.change(c, func(root *os.Root) error {
		if err := root.Mkdir(below(path), 0o755); err != nil {
			return err
		}
		return owned(root, below(path))
	})
}

func (d *ftpDoor) GetFile(c *server.Context, path string, from int64) (length int64, content io.ReadCloser, err error) {
	return length, content, d.in(c, func(root *os.Root) error {
		file, err := root.Open(below(path))
		if err != nil {
			return err
		}
		info, err := file.Stat()
		if err == nil && !info.Mode().IsRegular() {
			err = fs.ErrInvalid
		}
		if err == nil {
			_, err = file.Seek(from, io.SeekStart)
		}
		if err != nil {
			file.Close()
			return err
		}
		length, content = info.Size()-from, &reading{file, d.host.faults, c.Sess}
		return nil
	})
}

// reading counts what is read of a file: the connections on which FTP carries files are none of the host's listener.
type reading struct {
	io.ReadCloser
	meter   *meter
	session *server.Session
}

func (r *reading) Read(text []byte) (int, error) {
	n, err := r.ReadCloser.Read(text)
	if n > 0 && r.meter.went(n) {
		r.session.Close()
		return 0, errCut
	}
	return n, err
}

func (d *ftpDoor) PutFile(c *server.Context, path string, content io.Reader, from int64) (written int64, err error) {
	return written, d.change(c, func(root *os.Root) error {
		how := os.O_WRONLY | os.O_CREATE
		if from <= 0 {
			how |= os.O_TRUNC
		}
		file, err := root.OpenFile(below(path), how, 0o644)
		if err != nil {
			return err
		}
		defer file.Close()
		if err := owned(root, below(path)); err != nil {
			return err
		}
		if _, err := file.Seek(max(from, 0), io.SeekStart); err != nil {
			return err
		}
		buffer := make([]byte, 64<<10)
		for {
			n, err := content.Read(buffer)
			if n > 0 {
				if d.host.faults.went(n) {
					c.Sess.Close()
					return errCut
				}
				if err := d.host.faults.mayWrite(n); err != nil {
					return err
				}
				if _, err := file.Write(buffer[:n]); err != nil {
					return err
				}
				written += int64(n)
			}
			if errors.Is(err, io.EOF) {
				return nil
			}
			if err != nil {
				return err
			}
		}
	})
}
