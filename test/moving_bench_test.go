package test

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/unix"

	"vessik/client"
)

// plainHost runs what an SSH client asks for, as a host does for rsync: the same server as the practice host's, without its cells.
func plainHost(b *testing.B, dir string) (overSSH string) {
	b.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	must(b, err)
	block, err := ssh.MarshalPrivateKey(private, "bench")
	must(b, err)
	key := filepath.Join(dir, "key")
	must(b, os.WriteFile(key, pem.EncodeToMemory(block), 0o600))
	signer, err := ssh.NewSignerFromKey(private)
	must(b, err)
	config := &ssh.ServerConfig{PublicKeyCallback: func(_ ssh.ConnMetadata, shown ssh.PublicKey) (*ssh.Permissions, error) {
		if string(shown.Marshal()) != string(signer.PublicKey().Marshal()) {
			return nil, fmt.Errorf("an unknown key")
		}
		return nil, nil
	}}
	config.AddHostKey(signer)
	door, err := net.Listen("tcp", "127.0.0.1:0")
	must(b, err)
	b.Cleanup(func() { door.Close() })
	go func() {
		for {
			connection, err := door.Accept()
			if err != nil {
				return
			}
			go serveCommands(connection, config)
		}
	}()
	return fmt.Sprintf("ssh -q -p %d -i %s -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null", door.Addr().(*net.TCPAddr).Port, key)
}

func serveCommands(connection net.Conn, config *ssh.ServerConfig) {
	defer connection.Close()
	_, channels, requests, err := ssh.NewServerConn(connection, config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for next := range channels {
		channel, requests, err := next.Accept()
		if err != nil {
			return
		}
		go func() {
			for request := range requests {
				var asked struct{ Text string }
				if request.Type != "exec" || ssh.Unmarshal(request.Payload, &asked) != nil {
					request.Reply(false, nil)
					continue
				}
				request.Reply(true, nil)
				go func() {
					command := exec.CommandContext(ctx, "sh", "-c", asked.Text)
					input, _ := command.StdinPipe()
					command.Stdout, command.Stderr = channel, channel.Stderr()
					code := uint32(0)
					if command.Start() == nil {
						go func() {
							io.Copy(input, channel)
							input.Close()
						}()
						if command.Wait() != nil {
							code = 1
						}
					}
					channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Code uint32 }{code}))
					channel.Close()
				}()
			}
		}()
	}
}

// BenchmarkMoving pulls a site and pushes it, to rsync and the database's own programs over SSH that bring the same; then what little was
// changed.
func BenchmarkMoving(b *testing.B) {
	s := start(b, newHome(b))
	requirePassed(b, s.made(b, client.Request{Name: "orchard-live"}))
	requirePassed(b, s.made(b, client.Request{Name: "apple-days", CMS: "wordpress"}))
	megabytes := 500
	if small() {
		megabytes = 10
	}
	live := fill(b, s, "orchard-live", megabytes)
	dir := outside(b)
	host := practiceHost(b, s, dir)
	host.account(b, s, "orchard", "orchard-live", "sftp")
	over, beside := plainHost(b, dir), s.secrets(b, "apple-days")
	access := func(at client.Site) string {
		return fmt.Sprintf("-h127.0.0.1 -P%d -u%s -p%s %s", at.Database.Port, at.Database.User, at.Database.Password, at.Database.Name)
	}
	floor := func(from, to client.Site, out bool) time.Duration {
		files := fmt.Sprintf("rsync -a --exclude wp-config.php -e '%s' bench@127.0.0.1:%s/ %s/", over, from.Folder, to.Folder)
		rows := fmt.Sprintf("%s bench@127.0.0.1 mariadb-dump %s | mariadb %s", over, access(from), access(to))
		if out {
			files = fmt.Sprintf("rsync -a --exclude wp-config.php -e '%s' %s/ bench@127.0.0.1:%s/", over, from.Folder, to.Folder)
			rows = fmt.Sprintf("mariadb-dump %s | %s bench@127.0.0.1 mariadb %s", access(from), over, access(to))
		}
		unix.Sync()
		began := time.Now()
		if told, err := exec.CommandContext(ctx, "bash", "-ec", files+" && "+rows).CombinedOutput(); err != nil {
			b.Fatal(string(told), err)
		}
		return time.Since(began)
	}
	ours := func(arguments ...string) time.Duration {
		unix.Sync() // what was written before is not waited for within the time
		return s.timed(b, arguments...)
	}
	change := func(at client.Site, text string) {
		must(b, os.WriteFile(filepath.Join(at.Folder, "wp-content/uploads/2026/apple-0.jpg"), []byte(text), 0o644))
		_, err := pool(b, at).Exec("UPDATE " + at.Prefix + "posts SET post_title='" + text + "' ORDER BY ID LIMIT 1")
		must(b, err)
	}
	report := func(name string, took, floor time.Duration) {
		b.ReportMetric(took.Seconds(), name+"-s")
		b.ReportMetric(float64(took)/float64(floor), name+"-ratio")
	}
	for b.Loop() {
		b.ReportMetric(0, "ns/op")
		least := floor(live, beside, false)
		report("pull", ours("pull", "orchard", "orchard-days"), least)
		change(live, "changed there")
		least = floor(live, beside, false)
		report("pull-again", ours("pull", "orchard", "orchard-days"), least)
		here := fill(b, s, "orchard-days", megabytes)
		for i := range megabytes { // others than the host has
			path := filepath.Join(here.Folder, fmt.Sprintf("wp-content/uploads/2026/apple-%d.jpg", i))
			must(b, os.WriteFile(path, []byte(strings.Repeat(fmt.Sprintf("%07d ", i), 1<<17)), 0o644))
		}
		least = floor(here, beside, true)
		report("push", ours("push", "orchard-days", "orchard", "-yes", "-overwrite"), least)
		change(here, "changed here")
		least = floor(here, beside, true)
		report("push-again", ours("push", "orchard-days", "orchard", "-yes"), least)
		s.retire(b, "orchard-days")
	}
}
