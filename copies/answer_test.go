package copies

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/blobs"
	"vessik/internal/core/wire"
	"vessik/internal/relay"
)

// shop is a room with a service that has no site and makes none.
type shop struct {
	*Room
	mu    sync.Mutex
	now   time.Time
	asked []string
	sites []client.Site
}

const key = "0123456789abcdef"

func newShop(t *testing.T) *shop {
	t.Helper()
	s := &shop{now: time.Now()}
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		s.mu.Lock()
		s.asked = append(s.asked, q.Method+" "+strings.TrimPrefix(q.URL.Path, "/api/v1"))
		sites := s.sites
		s.mu.Unlock()
		if q.URL.Path == "/api/v1/sites" && len(sites) > 0 {
			json.NewEncoder(w).Encode(sites)
			return
		}
		if q.Method == "GET" {
			io.WriteString(w, "[]")
			return
		}
		w.WriteHeader(http.StatusUnprocessableEntity)
		io.WriteString(w, `{"status":422,"detail":"no engine for it"}`)
	}))
	t.Cleanup(service.Close)
	accounts := &relay.Accounts{Dir: t.TempDir()}
	_, err := accounts.Add("ines")
	require.NoError(t, err)
	s.Room, err = Open(t.TempDir(), &client.Client{Base: service.URL, HTTP: service.Client()}, accounts, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	s.Now = func() time.Time { s.mu.Lock(); defer s.mu.Unlock(); return s.now }
	return s
}

func (s *shop) ask(account, method, path string, body []byte) (int, string) {
	w := httptest.NewRecorder()
	s.For(account).ServeHTTP(w, httptest.NewRequest(method, relay.StandingPath+path, bytes.NewReader(body)))
	return w.Code, w.Body.String()
}

func framed(pieces ...[]byte) []byte {
	var body bytes.Buffer
	for _, piece := range pieces {
		binary.Write(&body, binary.BigEndian, uint32(len(piece)))
		body.Write(piece)
	}
	return body.Bytes()
}

func asJSON(t *testing.T, value any) []byte {
	text, err := json.Marshal(value)
	require.NoError(t, err)
	return text
}

func TestPiecesThatAreNoneAreNotKept(t *testing.T) {
	s := newShop(t)
	good := blobs.Pack([]byte("a piece"))
	huge := make([]byte, 4)
	binary.BigEndian.PutUint32(huge, 1<<31)
	for name, each := range map[string]struct {
		body []byte
		want string
	}{"none": {framed([]byte("no piece")), "cannot be read"}, "huge": {huge, "too long"}, "broken off": {framed(good)[:9], "break off"},
		"half a length": {[]byte{0, 0}, "break off"},
		"a bomb":        {framed(blobs.Pack(make([]byte, 8<<20))), "cannot be read"}} {
		status, said := s.ask("ines", "POST", key+"/pieces", each.body)
		assert.Equal(t, 422, status, name)
		assert.Contains(t, said, each.want, name)
	}
	s.Limits.Bytes = 1 << 20
	status, said := s.ask("ines", "POST", key+"/pieces", framed(make([]byte, 1<<20)))
	assert.Equal(t, 422, status)
	assert.Contains(t, said, "1 MB of an account")
	random := make([]byte, 900<<10)
	rand.NewChaCha8([32]byte{1}).Read(random)
	for n := range 3 { // what was sent for a copy that became too large is in nobody's way
		random[0] = byte(n)
		status, said = s.ask("ines", "POST", key+"/pieces", framed(blobs.Pack(random)))
		require.Equal(t, map[int]int{0: 204, 1: 422, 2: 204}[n], status, said)
	}
	s.mu.Lock()
	s.now = s.now.Add(looseFor + time.Second)
	s.mu.Unlock()
	require.NoError(t, s.tidy())
	left, err := os.ReadDir(s.Dir)
	require.NoError(t, err)
	assert.Empty(t, left, "nor is it kept for ever")
	s.Limits.Bytes = 1 << 30
	status, said = s.ask("ines", "POST", key+"/pieces", framed(good, good))
	require.Equal(t, 204, status, said)
	sums := []string{}
	require.NoError(t, blobs.Pieces(strings.NewReader("a piece"), func(sum string, _ []byte) error { sums = append(sums, sum); return nil }))
	other := strings.Repeat("0", 64)
	for account, want := range map[string][]string{"ines": {other, "../x"}, "tomas": {sums[0], other, "../x"}} {
		_, said := s.ask(account, "POST", key+"/missing", asJSON(t, []string{sums[0], other, "../x"}))
		assert.JSONEq(t, string(asJSON(t, want)), said, "what %s has is told to nobody else", account)
	}
}

func TestACopyThatCannotBePutUpSaysWhy(t *testing.T) {
	s := newShop(t)
	looking, end := context.WithCancel(t.Context())
	var done sync.WaitGroup
	done.Go(func() { s.LookAfter(looking) })
	defer done.Wait()
	defer end()
	s.ask("ines", "POST", key+"/pieces", framed(blobs.Pack([]byte("a piece"))))
	sum := ""
	require.NoError(t, blobs.Pieces(strings.NewReader("a piece"), func(of string, _ []byte) error { sum = of; return nil }))
	good := wire.StandNow{Site: "roses", Pieces: []string{sum}, Bytes: 7}
	for want, change := range map[string]func(n *wire.StandNow){"no site": func(n *wire.StandNow) { n.Site = "" },
		"is no site": func(n *wire.StandNow) { n.Pieces = nil }, "what was sent is no site": func(n *wire.StandNow) { n.Bytes = -1 },
		"some pieces are missing": func(n *wire.StandNow) { n.Pieces = append([]string{"ab"}, n.Pieces...) },
		"30 days at the most":     func(n *wire.StandNow) { n.Seconds = 40 * 86400 },
		"MB of an account":        func(n *wire.StandNow) { n.Bytes = 5 << 40 }} {
		bad := good
		change(&bad)
		_, said := s.ask("ines", "PUT", key, asJSON(t, bad))
		assert.Contains(t, said, want)
	}
	for _, bad := range []string{"roses", "0123456789ABCDEF", key + "0", "..", ".%2e"} {
		status, _ := s.ask("ines", "PUT", bad, asJSON(t, good))
		assert.Contains(t, []int{301, 307, 404, 405}, status, bad)
	}
	status, said := s.ask("ines", "PUT", key, asJSON(t, good))
	require.Equal(t, 200, status, said)
	var k wire.StandingCopy
	require.Eventually(t, func() bool {
		_, said = s.ask("ines", "GET", key, nil)
		return json.Unmarshal([]byte(said), &k) == nil && k.State == wire.CopyFailed
	}, 5*time.Second, 10*time.Millisecond, said)
	assert.Contains(t, k.Why, "no engine for it")
	status, _ = s.ask("tomas", "GET", key, nil)
	assert.Equal(t, 404, status)
	for _, path := range []string{"", "/mail", "/mail/1", "/remarks", "/remarks/1"} {
		status, _ = s.ask("ines", "GET", strings.Repeat("f", 16)+path, nil)
		assert.Equal(t, 404, status, path)
	}

	s.mu.Lock()
	s.now = s.now.Add(31 * 24 * time.Hour)
	s.mu.Unlock()
	require.Eventually(t, func() bool { _, said = s.ask("ines", "GET", key, nil); return strings.Contains(said, `"over"`) }, 10*time.Second,
		50*time.Millisecond, "its time is over")
	s.mu.Lock()
	s.now = s.now.Add(8 * 24 * time.Hour)
	s.mu.Unlock()
	require.Eventually(t, func() bool { status, _ := s.ask("ines", "GET", key, nil); return status == 404 }, 10*time.Second,
		50*time.Millisecond)
	end()
	done.Wait() // what it is in the middle of
	left, err := os.ReadDir(s.Dir)
	require.NoError(t, err)
	assert.Empty(t, left)
}

// What is written at the relay counts: the copy that grew most of an account that has too much goes, and nobody else's.
func TestACopyThatGrowsIsEnded(t *testing.T) {
	s := newShop(t)
	s.Limits.Bytes = 50 << 20
	takes, unread, why := map[string]int64{}, "", error(nil)
	s.Takes = func(of client.Site) (int64, error) {
		if of.Name == unread {
			return 0, why
		}
		return takes[of.Name], nil
	}
	all := map[string]kept{}
	for name, of := range map[string]struct {
		account      string
		sent, weighs int64
	}{"large": {"ines", 45 << 20, 60 << 20}, "grown": {"ines", 1 << 20, 30 << 20}, "other": {"tomas", 1 << 20, 99 << 20}} {
		k := kept{Account: of.account, StandingCopy: wire.StandingCopy{Key: hex.EncodeToString([]byte(name + "key"))[:16], Site: name,
			Bytes: of.sent, State: wire.CopyStands, Until: s.Now().Add(time.Hour)}}
		s.mu.Lock()
		require.NoError(t, s.save(k))
		s.mu.Unlock()
		all[name], takes[k.local()] = k, of.weighs
		s.sites = append(s.sites, client.Site{Name: k.local(), State: "stopped"})
	}
	states := func(rounds int) map[string]string {
		now := map[string]string{}
		for range rounds {
			require.NoError(t, s.bound(t.Context()))
		}
		for _, k := range s.of("") {
			now[k.Site] = k.State + k.Why
		}
		return now
	}
	assert.Equal(t, map[string]string{"large": "stands", "grown": "stands", "other": "stands"}, states(6))
	takes[all["grown"].local()] = 41 << 20
	assert.Equal(t, map[string]string{"large": "stands", "other": "stands", "grown": "overwith what was written at the relay it took 41 MB, " +
		"and an account's copies may take 100 MB in all; end it before you send it again"}, states(6))
	_, said := s.ask("ines", "PUT", all["grown"].Key, asJSON(t, wire.StandNow{Site: "grown", Pieces: []string{"ab"}, Bytes: 7}))
	assert.Contains(t, said, "end it before you send it again")
	unread = all["other"].local()
	for _, why = range []error{syscall.EMFILE, os.ErrPermission} {
		assert.Equal(t, "stands", states(0)["other"], "for what the machine cannot do, no copy is ended")
		for range 3 {
			s.bound(t.Context())
		}
	}
	assert.Contains(t, states(0)["other"], "overwhat was written at the relay cannot be measured")
	assert.Equal(t, "stands", states(3)["large"])
}

func TestWhatIsLongerThanItSaidIsNotPutUp(t *testing.T) {
	s := newShop(t)
	refs, err := s.pieces("ines").Put(t.Context(), bytes.NewReader(make([]byte, 3<<20)))
	require.NoError(t, err)
	k := kept{Account: "ines", StandingCopy: wire.StandingCopy{Key: key, Bytes: 1 << 20}}
	for _, ref := range refs {
		k.Pieces = append(k.Pieces, ref.Sum)
	}
	require.ErrorContains(t, s.assemble(k, filepath.Join(s.Dir, "parcel")), "longer than was said")
	k.Bytes = 3 << 20
	require.NoError(t, s.assemble(k, filepath.Join(s.Dir, "parcel")))
}

// Who sends pieces is not broken off by somebody else's being swept meanwhile.
func TestPiecesAreSweptWhileOthersCome(t *testing.T) {
	s := newShop(t)
	end := make(chan bool)
	var sweeping sync.WaitGroup
	sweeping.Go(func() {
		for {
			select {
			case <-end:
				return
			default:
				assert.NoError(t, s.sweep("ines"))
			}
		}
	})
	for n := range 200 {
		status, said := s.ask("ines", "POST", key+"/pieces", framed(blobs.Pack([]byte{byte(n), 1}), blobs.Pack([]byte{byte(n), 2})))
		require.Equal(t, 204, status, said)
	}
	close(end)
	sweeping.Wait()
}
