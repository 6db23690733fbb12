package practice

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"io"
	"io/fs"
	"net"
	"os"
	"path"
	"path/filepath"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"vessik/client"
	"vessik/internal/ownfile"
)

// keys is the host's key, which is made at the first use.
func (h *Host) keys() (ssh.Signer, error) {
	file := filepath.Join(h.Dir, "host.key")
	text, err := ownfile.Read(file)
	if errors.Is(err, fs.ErrNotExist) {
		_, private, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return nil, err
		}
		block, err := ssh.MarshalPrivateKey(private, "practice host")
		if err != nil {
			return nil, err
		}
		text = pem.EncodeToMemory(block)
		if err := ownfile.Write(file, text, 0o600); err != nil {
			return nil, err
		}
	} else if err != nil {
		return nil, err
	}
	return ssh.ParsePrivateKey(text)
}

func (h *Host) serveSSH(ctx context.Context, listener net.Listener, key ssh.Signer) error {
	config := &ssh.ServerConfig{ServerVersion: "SSH-2.0-practice",
		PasswordCallback: func(c ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
			if _, ok := h.signIn(c.User(), string(password)); !ok {
				return nil, errors.New("wrong password")
			}
			return nil, nil
		},
		PublicKeyCallback: func(c ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			known, _, _, _, err := ssh.ParseAuthorizedKey([]byte(h.environment(c.User()).Key))
			if err != nil || string(known.Marshal()) != string(key.Marshal()) {
				return nil, errors.New("an unknown key")
			}
			return nil, nil
		}}
	config.AddHostKey(key)
	stop := context.AfterFunc(ctx, func() { listener.Close() })
	defer stop()
	for {
		connection, err := listener.Accept()
		if err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return err
		}
		go h.customer(ctx, connection, config)
	}
}

// customer serves one connection.
func (h *Host) customer(ctx context.Context, connection net.Conn, config *ssh.ServerConfig) {
	defer connection.Close()
	stop := context.AfterFunc(ctx, func() { connection.Close() })
	defer stop()
	server, channels, requests, err := ssh.NewServerConn(connection, config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	e := h.environment(server.User())
	for next := range channels {
		if next.ChannelType() != "session" {
			next.Reject(ssh.UnknownChannelType, "sessions only")
			continue
		}
		channel, requests, err := next.Accept()
		if err != nil {
			return
		}
		go h.session(ctx, e, channel, requests)
	}
}

func (h *Host) session(ctx context.Context, e Environment, channel ssh.Channel, requests <-chan *ssh.Request) {
	defer channel.Close()
	for request := range requests {
		var asked struct{ Text string }
		if len(request.Payload) > 0 && ssh.Unmarshal(request.Payload, &asked) != nil {
			asked.Text = ""
		}
		switch {
		case request.Type == "subsystem" && asked.Text == "sftp":
			request.Reply(true, nil)
			h.serveFiles(e, channel)
			return
		case request.Type == "exec" && !h.faults.now().NoShell:
			request.Reply(true, nil)
			code, err := h.Service.Run(ctx, e.User, client.Command{Arguments: []string{"/bin/sh", "-c", asked.Text}}, channel, channel,
				channel.Stderr(), nil)
			if err != nil {
				code = 255
			}
			channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Code uint32 }{uint32(code)}))
			return
		default:
			request.Reply(false, nil)
		}
	}
}

// serveFiles serves an environment's folder by SFTP.
func (h *Host) serveFiles(e Environment, channel io.ReadWriteCloser) {
	root, err := e.root()
	if err != nil {
		h.Log.Error("open the folder of a customer", "customer", e.User, "reason", err)
		return
	}
	defer root.Close()
	f := &files{root, h.faults}
	server := sftp.NewRequestServer(channel, sftp.Handlers{FileGet: f, FilePut: f, FileCmd: f, FileList: f})
	defer server.Close()
	server.Serve()
}

// files is a folder that a customer has.
type files struct {
	root  *os.Root
	meter *meter
}

func (f *files) Fileread(r *sftp.Request) (io.ReaderAt, error) { return f.root.Open(below(r.Filepath)) }

func (f *files) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	if err := f.meter.mayWrite(0); err != nil {
		return nil, err
	}
	flags, how := r.Pflags(), os.O_WRONLY
	for is, flag := range map[int]bool{os.O_CREATE: flags.Creat, os.O_TRUNC: flags.Trunc, os.O_EXCL: flags.Excl} {
		if flag {
			how |= is
		}
	}
	file, err := f.root.OpenFile(below(r.Filepath), how, 0o644)
	if err != nil {
		return nil, err
	}
	return &writing{file, f.meter}, owned(f.root, below(r.Filepath))
}

// writing is a file that takes as much as the customer may have.
type writing struct {
	*os.File
	meter *meter
}

func (w *writing) WriteAt(text []byte, at int64) (int, error) {
	if err := w.meter.mayWrite(len(text)); err != nil {
		return 0, err
	}
	return w.File.WriteAt(text, at)
}

func (f *files) Filecmd(r *sftp.Request) error {
	if err := f.meter.mayWrite(0); err != nil {
		return err
	}
	name := below(r.Filepath)
	switch r.Method {
	case "Rename":
		if _, err := f.root.Lstat(below(r.Target)); err == nil {
			return fs.ErrExist
		}
		return f.root.Rename(name, below(r.Target))
	case "Mkdir":
		return errors.Join(f.root.Mkdir(name, 0o755), owned(f.root, name))
	case "Rmdir", "Remove":
		return f.root.Remove(name)
	case "Setstat":
		if r.AttrFlags().Permissions {
			return f.root.Chmod(name, r.Attributes().FileMode().Perm())
		}
		return nil
	}
	return sftp.ErrSSHFxOpUnsupported
}

func (f *files) PosixRename(r *sftp.Request) error {
	if err := f.meter.mayWrite(0); err != nil {
		return err
	}
	return f.root.Rename(below(r.Filepath), below(r.Target))
}

func (f *files) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	if r.Method != "List" {
		info, err := f.root.Lstat(below(r.Filepath))
		return entries{info}, err
	}
	folder, err := f.root.Open(below(r.Filepath))
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	found, err := folder.Readdir(-1)
	return entries(found), err
}

type entries []fs.FileInfo

func (e entries) ListAt(to []fs.FileInfo, from int64) (int, error) {
	if from >= int64(len(e)) {
		return 0, io.EOF
	}
	n := copy(to, e[from:])
	if n < len(to) {
		return n, io.EOF
	}
	return n, nil
}

// RealPath is what a path is for a customer, whose folder is the top.
func (f *files) RealPath(name string) (string, error) { return path.Clean("/" + name), nil }
