package hosting

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"vessik/internal/core/hosting"
	"vessik/internal/records"
)

// answering is a host whose helper answers what a test wants, signed with its key.
func answering(t *testing.T, answer func(asked map[string]any) string) *Helper {
	t.Helper()
	const key = "k"
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		assert.NoError(t, err)
		var asked map[string]any
		assert.NoError(t, json.Unmarshal(body, &asked))
		signed := hmac.New(sha256.New, []byte(key))
		signed.Write(body)
		frames := answer(asked)
		io.WriteString(w, frames)
		signed.Reset()
		signed.Write(body)
		signed.Write([]byte(frames))
		io.WriteString(w, hex.EncodeToString(signed.Sum(nil)))
	}))
	t.Cleanup(server.Close)
	return &Helper{address: server.URL, key: key, client: client()}
}

func frame(kind, text string) string { return fmt.Sprintf("%s%d\n%s", kind, len(text), text) }

func entry(kind, name string, size int64) string {
	return fmt.Sprintf("[%q,%q,%d,%d,0]\n", kind, base64.StdEncoding.EncodeToString([]byte(name)), size, 1790000000)
}

// What a hostile host lists leads nowhere but into the folder of the site.
func TestWhatAHostListsIsJudged(t *testing.T) {
	lists := entry("file", "good.php", 3) + entry("folder", "a", 0) + entry("file", "a/b", 1)
	for _, name := range []string{"../up", "/etc/passwd", "a/../../x", "", ".", "a//b", "a\x00b", "caf\xe9", "a/./b", strings.Repeat("x",
		300)} {
		lists += entry("file", name, 1)
	}
	lists += entry("other", "link", 0) + entry("file", "less", -1) + entry("denied", "secret", 0)
	h := answering(t, func(map[string]any) string { return frame("D", lists) + frame("E", `{"left":[]}`) })
	l, err := h.List(context.Background(), nil)
	require.NoError(t, err)
	names := []string{}
	for _, e := range l.Entries {
		names = append(names, e.Path)
	}
	assert.Equal(t, []string{"a", "a/b", "good.php"}, names)
	assert.Equal(t, int64(4), l.Bytes())
	assert.Equal(t, 2, l.Other)
	assert.Len(t, l.Unfit, 10)
	assert.Equal(t, []string{`"secret"`}, l.Denied)
}

// A host that never ends is left; one whose answers are not signed, or not those of a helper, is not believed.
func TestAHostIsNotBelieved(t *testing.T) {
	ctx := context.Background()
	deep := ""
	endless := answering(t, func(map[string]any) string {
		deep += "d/"
		return frame("D", entry("folder", strings.TrimSuffix(deep, "/"), 0)) + frame("E", `{"left":["`+strings.TrimSuffix(deep, "/")+`"]}`)
	})
	_, err := endless.List(ctx, nil)
	require.ErrorIs(t, err, errEndless)
	file, err := os.Create(t.TempDir() + "/dump")
	require.NoError(t, err)
	defer file.Close()
	forever := answering(t, func(map[string]any) string {
		return frame("D", strings.Repeat("x", 1000)) + frame("E", `{"table":"beds","row":1}`)
	})
	_, err = forever.Dump(ctx, Configuration{}, Dumping{}, file, 500, func(int64) {})
	require.ErrorContains(t, err, "has no end")
	_, err = forever.Dump(ctx, Configuration{}, Dumping{}, file, 1<<20, func(int64) {})
	require.ErrorContains(t, err, "does not get on")
	for answer, says := range map[string]string{
		"<html>Login</html>\n":      "does not answer with what lies",
		"":                          "does not answer with what lies",
		"D99999999999\n":            "does not answer with what lies",
		frame("E", "nonsense"):      "invalid character",
		frame("R", "disk full"):     "the host says: disk full",
		"E17000000\n{}":             "more than it was asked",
		"Z2\n{}" + frame("E", "{}"): "does not answer with what lies",
	} {
		h := answering(t, func(map[string]any) string { return answer })
		_, err := h.Look(ctx, Configuration{})
		assert.ErrorContains(t, err, says, answer)
	}
	other := answering(t, func(map[string]any) string { return frame("E", `{}`) })
	other.key = "k " // as if something on the way had changed it
	require.ErrorContains(t, other.ask(ctx, "look", nil, nil, &struct{}{}), "not signed as it must be")
	huge := answering(t, func(map[string]any) string {
		return frame("E", `{"bytes":1e300,"free":1e300,"php":"`+strings.Repeat("8", 100_000)+`"}`)
	})
	looked, err := huge.Look(ctx, Configuration{})
	require.NoError(t, err)
	assert.Len(t, looked.PHP, 300)
	assert.LessOrEqual(t, looked.Bytes, float64(1<<50))
	lying := answering(t, func(map[string]any) string { return frame("E", `{"sums":["a","b","c"]}`) })
	_, err = lying.Hashes(ctx, []string{"one"})
	require.ErrorContains(t, err, "does not answer for the files")
}

// A line that is cut in the middle of an answer is taken up again, and nothing stands twice in the file.
func TestADumpIsTakenUpAgain(t *testing.T) {
	cuts := 0
	h := answering(t, func(asked map[string]any) string {
		if asked["row"] == 0.0 {
			return frame("D", "first;\n") + frame("E", `{"table":"beds","row":1}`)
		}
		if cuts++; cuts < 3 {
			panic(http.ErrAbortHandler)
		}
		return frame("D", "second;\n") + frame("E", `{"table":"","row":0}`)
	})
	file, err := os.Create(t.TempDir() + "/dump")
	require.NoError(t, err)
	defer file.Close()
	parts, err := h.Dump(context.Background(), Configuration{}, Dumping{}, file, 1<<20, func(int64) {})
	require.NoError(t, err)
	assert.Equal(t, 2, parts)
	text, err := os.ReadFile(file.Name())
	require.NoError(t, err)
	assert.Equal(t, "first;\nsecond;\n", string(text))
}

// evil is an SFTP server whose folders hold names that lead out.
type evil struct{ sftp.Handlers }

type named struct {
	name string
	mode fs.FileMode
}

func (n named) Name() string       { return n.name }
func (n named) Size() int64        { return 1 }
func (n named) Mode() fs.FileMode  { return n.mode }
func (n named) ModTime() time.Time { return time.Unix(1790000000, 0) }
func (n named) IsDir() bool        { return n.mode.IsDir() }
func (n named) Sys() any           { return nil }

type listed []fs.FileInfo

func (l listed) ListAt(to []fs.FileInfo, from int64) (int, error) {
	n := copy(to, l[min(from, int64(len(l))):])
	if n < len(to) {
		return n, io.EOF
	}
	return n, nil
}

func (evil) Filelist(*sftp.Request) (sftp.ListerAt, error) {
	return listed{named{"../../escape", 0o644}, named{"..", fs.ModeDir}, named{"link", fs.ModeSymlink}, named{"good", 0o644},
		named{"deeper", fs.ModeDir}}, nil
}

func TestAnSFTPServerThatLeadsOut(t *testing.T) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	config := &ssh.ServerConfig{PasswordCallback: func(_ ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
		if string(password) != "right" {
			return nil, errors.New("wrong")
		}
		return nil, nil
	}}
	config.AddHostKey(signer)
	go serve(listener, config)
	a := records.Account{Account: hosting.Account{Name: "evil", At: "sftp://a@" + listener.Addr().String() + "/www"}}
	_, shown, err := Dial(context.Background(), a)
	var refused *SignInError
	require.ErrorAs(t, err, &refused)
	a.Secrets.Password = "right"
	line, again, err := Dial(context.Background(), a)
	require.NoError(t, err)
	defer line.Close()
	assert.Equal(t, shown, again)
	assert.Equal(t, ssh.FingerprintSHA256(signer.PublicKey()), again)
	_, err = ListBy(context.Background(), line, nil)
	require.ErrorIs(t, err, errEndless, "a folder in a folder in a folder, for ever")
	l, err := ListBy(context.Background(), line, []string{"deeper"})
	require.NoError(t, err)
	require.Len(t, l.Entries, 2)
	assert.Equal(t, "escape", l.Entries[0].Path, "what lies here by that name, and not above")
	assert.Equal(t, "good", l.Entries[1].Path)
	a.HostKey = "SHA256:another"
	_, _, err = Dial(context.Background(), a)
	var changed *HostKeyError
	require.ErrorAs(t, err, &changed)
}

func serve(listener net.Listener, config *ssh.ServerConfig) {
	for {
		connection, err := listener.Accept()
		if err != nil {
			return
		}
		go func() {
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
						request.Reply(request.Type == "subsystem", nil)
						go sftp.NewRequestServer(channel, sftp.Handlers{FileList: evil{}}).Serve()
					}
				}()
			}
		}()
	}
}

func TestNamesOfHelpersAreNotGuessed(t *testing.T) {
	name, key := HelperName()
	other, _ := HelperName()
	assert.NotEqual(t, name, other)
	assert.Regexp(t, `^move-[a-z2-7]{20}\.php$`, name)
	assert.GreaterOrEqual(t, len(key), 26)
	assert.Equal(t, []string{name, strings.TrimSuffix(name, ".php") + ".state.php"}, helperFiles(name))
	assert.Equal(t, 1, bytes.Count([]byte(helperText), []byte("{{key}}")))
}
