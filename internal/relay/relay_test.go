package relay

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rented is a relay on loopback, with an account; lines go through a wire that can be cut.
type rented struct {
	*Relay
	at    string // host and port
	roots *x509.CertPool
	token string
	now   time.Time
	mu    sync.Mutex
	wires []net.Conn
	down  bool
	told  func(error)
}

func rent(t *testing.T) *rented {
	t.Helper()
	accounts := &Accounts{Dir: t.TempDir()}
	token, err := accounts.Add("ines")
	require.NoError(t, err)
	d := &rented{Relay: New("guests.localhost", 443, accounts, slog.New(slog.DiscardHandler)), token: token, now: time.Now()}
	d.Looks = 50 * time.Millisecond
	d.Now = func() time.Time {
		d.mu.Lock()
		defer d.mu.Unlock()
		return d.now
	}
	server := httptest.NewTLSServer(d.Relay)
	t.Cleanup(server.Close)
	d.at, d.roots = server.Listener.Addr().String(), x509.NewCertPool()
	d.roots.AddCert(server.Certificate())
	d.Port = server.Listener.Addr().(*net.TCPAddr).Port
	return d
}

// line is one to the relay over the wire, for as long as the test lasts.
func (d *rented) line(t *testing.T, token string, answer http.HandlerFunc) *Line {
	t.Helper()
	wire, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() {
		for {
			in, err := wire.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", d.at)
			d.mu.Lock()
			if err != nil || d.down {
				in.Close()
			} else {
				d.wires = append(d.wires, in, out)
				go io.Copy(in, out)
				go io.Copy(out, in)
			}
			d.mu.Unlock()
		}
	}()
	l := NewLine("https://example.com:"+fmt.Sprint(wire.Addr().(*net.TCPAddr).Port), token, d.roots, answer)
	if d.told != nil {
		l.Told = d.told
	}
	l.dialer = func(ctx context.Context, network, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, network, wire.Addr().String())
	}
	d.Domain = "example.com" // whom httptest's certificate is for
	ctx, end := context.WithCancel(t.Context())
	var running sync.WaitGroup
	running.Go(func() { l.Run(ctx) })
	t.Cleanup(func() {
		end()
		wire.Close()
		running.Wait()
	})
	return l
}

// cut breaks all lines; down keeps new ones from coming.
func (d *rented) cut(down bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, each := range d.wires {
		each.Close()
	}
	d.wires, d.down = nil, down
}

// notices waits until the relay knows that the line of an address is broken.
func (d *rented) notices(t *testing.T, label string) {
	t.Helper()
	require.Eventually(t, func() bool { d.Relay.mu.Lock(); defer d.Relay.mu.Unlock(); return d.lent[label].over == nil }, 5*time.Second,
		time.Millisecond)
}

func (d *rented) client() *http.Client {
	return &http.Client{Timeout: 20 * time.Second, Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: d.roots,
		ServerName: "example.com"},
		DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, network, d.at)
		}}, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

func (d *rented) get(t *testing.T, address string, header ...string) (int, string) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), "GET", address, nil)
	require.NoError(t, err)
	for i := 0; i < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	answer, err := d.client().Do(r)
	require.NoError(t, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return answer.StatusCode, string(text)
}

func tells(w http.ResponseWriter, r *http.Request) {
	fmt.Fprintf(w, "%s %s%s for %s, %q", r.Method, r.Host, r.URL, r.RemoteAddr, r.Header.Get("X-Forwarded-For"))
}

func TestGuestsReachASiteOverItsLine(t *testing.T) {
	d := rent(t)
	l := d.line(t, d.token, tells)
	label, base, err := l.Lend(t.Context(), "")
	require.NoError(t, err)
	assert.Len(t, label, 20, "a name that nobody guesses")
	assert.Equal(t, fmt.Sprintf("https://%s.example.com:%d", label, d.Port), base)
	status, text := d.get(t, base+"/shop/?a=1", "X-Forwarded-For", "198.51.100.1", "Forwarded", "for=198.51.100.1")
	assert.Equal(t, 200, status)
	assert.Equal(t, fmt.Sprintf(`GET %s.example.com:%d/shop/?a=1 for 127.0.0.1:0, ""`, label, d.Port), text, "nobody says to be another one")
	chosen, base, err := l.Lend(t.Context(), "orchard-days")
	require.NoError(t, err)
	assert.Equal(t, "orchard-days", chosen)
	status, _ = d.get(t, base)
	assert.Equal(t, 200, status)
	require.NoError(t, l.GiveBack(t.Context(), "orchard-days"))
	status, text = d.get(t, base)
	assert.Equal(t, 404, status)
	assert.Contains(t, text, "leads nowhere now")
	for _, label := range []string{"Ab", "-abc", "a_b_c", "a.b", "xn--abc", strings.Repeat("a", 41)} {
		_, _, err := l.Lend(t.Context(), label)
		require.ErrorContains(t, err, "label")
	}
}

func TestARelayIsNoProxyForAnythingElse(t *testing.T) {
	d := rent(t)
	asked := 0
	l := d.line(t, d.token, func(http.ResponseWriter, *http.Request) { asked++ })
	_, _, err := l.Lend(t.Context(), "orchard-days")
	require.NoError(t, err)
	for address, want := range map[string]int{"https://elsewhere.example/": 421, "https://a.orchard-days.example.com/": 421,
		"https://roses.example.com/": 404, "https://example.com/": 200, "https://example.com/orchard-days": 404, "https://127.0.0.1/": 421,
		"https://xexample.com/": 421} {
		status, _ := d.get(t, address)
		assert.Equal(t, want, status, address)
	}
	for _, request := range []string{"CONNECT elsewhere.example:443 HTTP/1.1\r\nHost: elsewhere.example:443\r\n\r\n",
		"GET http://elsewhere.example/ HTTP/1.1\r\nHost: orchard-days.example.com\r\n\r\n",
		"GET / HTTP/1.1\r\nHost: orchard-days.example.com\r\nContent-Length: 3\r\nTransfer-Encoding: chunked, identity\r\n\r\n0\r\n\r\n",
		"GET / HTTP/1.1\r\nHost: orchard-days.example.com\r\nHost: example.com\r\n\r\n"} {
		connection, err := tls.Dial("tcp", d.at, &tls.Config{RootCAs: d.roots, ServerName: "example.com"})
		require.NoError(t, err)
		io.WriteString(connection, request)
		connection.SetReadDeadline(time.Now().Add(5 * time.Second))
		first := make([]byte, 12)
		_, err = io.ReadFull(connection, first)
		require.NoError(t, err)
		assert.Contains(t, []string{"HTTP/1.1 421", "HTTP/1.1 400", "HTTP/1.1 501"}, string(first), request)
		connection.Close()
	}
	assert.Zero(t, asked)
}

func TestABrokenLineIsMended(t *testing.T) {
	d := rent(t)
	l := d.line(t, d.token, tells)
	_, base, err := l.Lend(t.Context(), "orchard-days")
	require.NoError(t, err)
	d.cut(false)
	status, _ := d.get(t, base)
	assert.Equal(t, 200, status, "a guest waits for the new line")

	d.Waits = 200 * time.Millisecond
	d.cut(true)
	status, text := d.get(t, base)
	assert.Equal(t, 503, status)
	assert.Contains(t, text, `http-equiv="refresh"`)
	d.cut(false)
	require.Eventually(t, l.Stands, 20*time.Second, 10*time.Millisecond)
	require.Eventually(t, func() bool { status, _ := d.get(t, base); return status == 200 }, 5*time.Second, 20*time.Millisecond)

	d.cut(true)
	d.notices(t, "orchard-days")
	d.mu.Lock()
	d.now = d.now.Add(keptFor + time.Second)
	d.mu.Unlock()
	status, _ = d.get(t, base)
	assert.Equal(t, 404, status, "nothing is kept for ever")
}

// What a service that ends was lent ends with it: nobody waits for a line that nobody mends.
func TestAServiceThatEndsGivesAllBack(t *testing.T) {
	d := rent(t)
	d.Domain = "example.com"
	l := NewLine("https://example.com", d.token, d.roots, http.HandlerFunc(tells))
	l.dialer = func(ctx context.Context, network, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, network, d.at)
	}
	ctx, end := context.WithCancel(t.Context())
	var running sync.WaitGroup
	running.Go(func() { l.Run(ctx) })
	_, base, err := l.Lend(t.Context(), "orchard-days")
	require.NoError(t, err)
	end()
	running.Wait()
	require.Eventually(t, func() bool { status, _ := d.get(t, base); return status == 404 }, 5*time.Second, 10*time.Millisecond)
}

// A line that breaks again while what was lent is asked for again is mended all the same.
func TestALineThatBreaksWhileItIsMendedIsMended(t *testing.T) {
	d := rent(t)
	l := d.line(t, d.token, tells)
	_, base, err := l.Lend(t.Context(), "orchard-days")
	require.NoError(t, err)
	d.cut(true)
	d.notices(t, "orchard-days")
	asked, answers := make(chan bool), make(chan bool)
	var once sync.Once
	now := d.Now
	d.Relay.mu.Lock()
	d.Now = func() time.Time { // nothing is answered on the next line
		once.Do(func() { close(asked) })
		<-answers
		return now()
	}
	d.Relay.mu.Unlock()
	d.cut(false)
	<-asked
	d.cut(false)
	close(answers)
	require.Eventually(t, func() bool { status, _ := d.get(t, base); return status == 200 }, 10*time.Second, 20*time.Millisecond)
}

func TestAnAccountHasSoManyLines(t *testing.T) {
	d := rent(t)
	d.Limits.Lines = 2
	for range 2 {
		l := d.line(t, d.token, tells)
		require.Eventually(t, l.Stands, 5*time.Second, time.Millisecond)
	}
	refused := make(chan error, 100)
	d.told = func(err error) { refused <- err }
	third := d.line(t, d.token, tells)
	require.ErrorContains(t, <-refused, "429")
	assert.False(t, third.Stands())
}

func TestALineThatBreaksInAnAnswerEndsIt(t *testing.T) {
	d := rent(t)
	began := make(chan bool, 1)
	l := d.line(t, d.token, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Length", "1000000")
		io.WriteString(w, "the beginning")
		http.NewResponseController(w).Flush()
		began <- true
		<-r.Context().Done()
	})
	_, base, err := l.Lend(t.Context(), "orchard-days")
	require.NoError(t, err)
	r, err := http.NewRequestWithContext(t.Context(), "GET", base, nil)
	require.NoError(t, err)
	answer, err := d.client().Do(r)
	require.NoError(t, err)
	defer answer.Body.Close()
	<-began
	d.cut(false)
	_, err = io.ReadAll(answer.Body)
	require.Error(t, err, "half an answer is not taken for a whole one")
}

func TestOnlyWhoHasATokenIsLentAddresses(t *testing.T) {
	d := rent(t)
	refused := make(chan error, 100)
	d.told = func(err error) { refused <- err }
	stranger := d.line(t, "guessed", tells)
	d.told = nil
	require.ErrorIs(t, <-refused, ErrRefused)
	assert.False(t, stranger.Stands())

	other, err := d.Accounts.Add("tomas")
	require.NoError(t, err)
	mine, theirs := d.line(t, d.token, tells), d.line(t, other, tells)
	_, _, err = mine.Lend(t.Context(), "orchard-days")
	require.NoError(t, err)
	_, _, err = theirs.Lend(t.Context(), "orchard-days")
	require.ErrorContains(t, err, "lent to somebody else")
	require.NoError(t, theirs.GiveBack(t.Context(), "orchard-days"))
	status, _ := d.get(t, "https://orchard-days.example.com/")
	assert.Equal(t, 200, status, "nobody ends another one's")

	d.Limits.Addresses = 3
	for range 2 {
		_, _, err = mine.Lend(t.Context(), "")
		require.NoError(t, err)
	}
	_, _, err = mine.Lend(t.Context(), "")
	require.ErrorContains(t, err, "3 addresses at the most")
	_, left, err := theirs.Lend(t.Context(), "")
	require.NoError(t, err)
	require.NoError(t, d.Accounts.Drop("tomas"))
	require.Eventually(t, func() bool { status, _ := d.get(t, left); return status == 404 && !theirs.Stands() }, 5*time.Second,
		20*time.Millisecond, "whose account is dropped has no address any more")
	require.ErrorContains(t, d.Accounts.Drop("tomas"), "none called")
	_, err = d.Accounts.Add("ines")
	require.ErrorContains(t, err, "there is one")
}

func TestAnAccountTakesNoMoreThanItsShare(t *testing.T) {
	d := rent(t)
	d.Limits = Limits{Lines: 5, Addresses: 5, Guests: 8, Bytes: 1 << 20}
	var mu sync.Mutex
	now, most := 0, 0
	l := d.line(t, d.token, func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		now++
		most = max(most, now)
		mu.Unlock()
		time.Sleep(5 * time.Millisecond)
		mu.Lock()
		now--
		mu.Unlock()
		if r.URL.Path == "/long" {
			w.Write(make([]byte, 2<<20))
		}
	})
	_, base, err := l.Lend(t.Context(), "orchard-days")
	require.NoError(t, err)
	var guests sync.WaitGroup
	for range 200 {
		guests.Go(func() { d.get(t, base+"/") })
	}
	guests.Wait()
	assert.LessOrEqual(t, most, 8)
	d.get(t, base+"/long")
	status, text := d.get(t, base+"/")
	assert.Equal(t, 503, status)
	assert.Contains(t, text, "No more today")
	_, text = d.get(t, "https://example.com/metrics")
	assert.Contains(t, text, "vessik_relay_addresses 1\n")
	assert.Contains(t, text, "# EOF")
	d.mu.Lock()
	d.now = d.now.Add(24 * time.Hour)
	d.mu.Unlock()
	status, _ = d.get(t, base+"/")
	assert.Equal(t, 200, status)
}

func TestSocketsAndStreamsPass(t *testing.T) {
	d := rent(t)
	l := d.line(t, d.token, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/events" {
			w.Header().Set("Content-Type", "text/event-stream")
			io.WriteString(w, "data: first\n\n")
			http.NewResponseController(w).Flush()
			<-r.Context().Done()
			return
		}
		socket, err := websocket.Accept(w, r, nil)
		if err != nil {
			return
		}
		defer socket.CloseNow()
		kind, text, err := socket.Read(r.Context())
		if err == nil {
			socket.Write(r.Context(), kind, append([]byte("heard "), text...))
		}
	})
	_, base, err := l.Lend(t.Context(), "orchard-days")
	require.NoError(t, err)
	socket, _, err := websocket.Dial(t.Context(), base, &websocket.DialOptions{HTTPClient: d.client()})
	require.NoError(t, err)
	defer socket.CloseNow()
	require.NoError(t, socket.Write(t.Context(), websocket.MessageText, []byte("a pear")))
	_, text, err := socket.Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "heard a pear", string(text))

	r, err := http.NewRequestWithContext(t.Context(), "GET", base+"/events", nil)
	require.NoError(t, err)
	answer, err := d.client().Do(r)
	require.NoError(t, err)
	defer answer.Body.Close()
	first := make([]byte, len("data: first\n\n"))
	_, err = io.ReadFull(answer.Body, first)
	require.NoError(t, err)
	assert.Equal(t, "data: first\n\n", string(first), "an event does not wait for the next one")
}
