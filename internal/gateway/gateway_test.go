package gateway

import (
	"bufio"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/site"
)

// fleet is a Sites whose sites can be changed.
type fleet struct {
	mu      sync.Mutex
	sites   []site.Site
	changed chan struct{}
	back    time.Time // when the database server is up again

	certificate tls.Certificate
	asked       []string // names that one was asked for
	missing     []string // addresses that may be of files elsewhere
}

func (f *fleet) ByDomain(host string) (site.Site, bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, s := range f.sites {
		if s.Domain == host {
			return s, true
		}
	}
	return site.Site{}, false
}

func (f *fleet) Sites() []site.Site { f.mu.Lock(); defer f.mu.Unlock(); return f.sites }

func (f *fleet) Changed() <-chan struct{} { f.mu.Lock(); defer f.mu.Unlock(); return f.changed }

func (f *fleet) Wake(site.Site) {}

func (f *fleet) Outage(_ site.Site, since time.Time) bool { return f.back.After(since) }

func (f *fleet) TakeTicket(s site.Site, token string) (user, secret string, ok bool) {
	return "head-keeper", "s3cret", token == "good" && s.Name == "fernhollow"
}

func (f *fleet) Missing(_ context.Context, _ site.Site, address string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.missing = append(f.missing, address)
}

func (f *fleet) CarryOver(r *http.Request, s site.Site) (address, cookie string) {
	if held, err := r.Cookie("seen"); err == nil {
		return map[string]string{"ines": "https://fernhollow.localhost:20443/vessik-ticket/good"}[held.Value], "seen"
	}
	return "", ""
}

func (f *fleet) Certificate(names []string) (*tls.Certificate, error) {
	f.asked = names
	return &f.certificate, nil
}

func (f *fleet) set(state site.State) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.sites = []site.Site{f.sites[0]}
	f.sites[0].State = state
	close(f.changed)
	f.changed = make(chan struct{})
}

// garden is a gateway before one site that is served by the handler.
func garden(t *testing.T, state site.State, handler http.HandlerFunc) (*httptest.Server, *fleet) {
	backend := httptest.NewServer(handler)
	t.Cleanup(backend.Close)
	_, port, _ := net.SplitHostPort(backend.Listener.Addr().String())
	number, _ := strconv.Atoi(port)
	f := &fleet{changed: make(chan struct{}), sites: []site.Site{{Name: "fernhollow", Title: "Fernhollow <Garden>",
		Domain: "fernhollow.localhost", State: state, Port: number, Reason: "it rained in"}}}
	g := New(f, site.Gateway{HTTP: 20080, HTTPS: 20443}, "http://vessik.localhost:20070/")
	g.Wait = 5 * time.Second
	server := httptest.NewServer(g)
	t.Cleanup(server.Close)
	return server, f
}

func ask(t *testing.T, server *httptest.Server, host, path string, body io.Reader) (*http.Response, string) {
	method := "GET"
	if body != nil {
		method = "POST"
	}
	request, err := http.NewRequest(method, server.URL+path, body)
	require.NoError(t, err)
	request.Host = host
	request.Header.Set("X-Forwarded-For", "6.6.6.6")
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	response, err := client.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	return response, string(text)
}

func TestRequestsReachTheSiteAsTheVisitorSentThem(t *testing.T) {
	server, _ := garden(t, site.Running, func(w http.ResponseWriter, r *http.Request) {
		text, _ := io.ReadAll(r.Body)
		fmt.Fprint(w, r.Method, " ", r.Host, " ", r.URL, " ", string(text), " ", r.Header.Get("X-Forwarded-For"), " ",
			r.Header.Get("X-Forwarded-Host"), " ", r.Header.Get("X-Forwarded-Proto"))
	})
	response, text := ask(t, server, "Fernhollow.localhost:20080", "/a%2Fb?c=d%20e", strings.NewReader("seeds"))
	assert.Equal(t, 200, response.StatusCode)
	assert.Equal(t, "POST Fernhollow.localhost:20080 /a%2Fb?c=d%20e seeds 127.0.0.1 Fernhollow.localhost:20080 http", text,
		"a visitor's own forwarded header is not believed")
}

// Files may lie elsewhere, pages and what is sent may not.
func TestWhatMayLieElsewhereIsLookedFor(t *testing.T) {
	server, f := garden(t, site.Running, func(http.ResponseWriter, *http.Request) {})
	for _, path := range []string{"/uploads/fern%201.jpg?v=1", "/uploads/", "/index.php", "/page"} {
		ask(t, server, "fernhollow.localhost", path, nil)
	}
	ask(t, server, "fernhollow.localhost", "/uploads/sent.jpg", strings.NewReader("x"))
	assert.Equal(t, []string{"/uploads/fern 1.jpg"}, f.missing)
}

func TestWordsInsteadOfASite(t *testing.T) {
	server, f := garden(t, site.Stopped, func(http.ResponseWriter, *http.Request) { t.Error("a stopped site was asked") })
	response, text := ask(t, server, "nobody.localhost", "/", nil)
	assert.Equal(t, 404, response.StatusCode)
	assert.NotContains(t, text, "fernhollow.localhost", "who asks for an unknown name learns no other")
	assert.NotContains(t, text, "Fernhollow")
	response, text = ask(t, server, "fernhollow.localhost", "/", nil)
	assert.Equal(t, 503, response.StatusCode)
	assert.Contains(t, text, "vessik start fernhollow")
	f.set(site.Failed)
	response, text = ask(t, server, "fernhollow.localhost", "/", nil)
	assert.Equal(t, 502, response.StatusCode)
	assert.Contains(t, text, "it rained in")
	response, _ = ask(t, server, "vessik.localhost", "/", nil)
	assert.Equal(t, "http://vessik.localhost:20070/", response.Header.Get("Location"))
}

func TestAStartingSiteIsWaitedFor(t *testing.T) {
	server, f := garden(t, site.Starting, func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "awake") })
	time.AfterFunc(150*time.Millisecond, func() { f.set(site.Running) })
	began := time.Now()
	response, text := ask(t, server, "fernhollow.localhost", "/", nil)
	assert.Equal(t, 200, response.StatusCode)
	assert.Equal(t, "awake", text)
	assert.GreaterOrEqual(t, time.Since(began), 100*time.Millisecond)
}

func TestAnswersStreamAndUploadsAreNotHeldBack(t *testing.T) {
	more := make(chan struct{})
	server, _ := garden(t, site.Running, func(w http.ResponseWriter, r *http.Request) {
		http.NewResponseController(w).EnableFullDuplex()
		first := make([]byte, 5)
		io.ReadFull(r.Body, first)
		fmt.Fprintf(w, "got %s\n", first)
		w.(http.Flusher).Flush()
		<-more
		fmt.Fprintln(w, "end")
	})
	reader, writer := io.Pipe()
	request, err := http.NewRequest("POST", server.URL, reader)
	require.NoError(t, err)
	request.Host = "fernhollow.localhost"
	go writer.Write([]byte("first"))
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	line, err := bufio.NewReader(response.Body).ReadString('\n')
	require.NoError(t, err)
	assert.Equal(t, "got first\n", line, "the beginning arrives before the request is whole")
	writer.Close()
	close(more)
}

func TestWebSocketsPass(t *testing.T) {
	server, _ := garden(t, site.Running, func(w http.ResponseWriter, r *http.Request) {
		connection, buffered, err := w.(http.Hijacker).Hijack()
		if err != nil {
			t.Error(err)
			return
		}
		defer connection.Close()
		fmt.Fprintf(buffered, "HTTP/1.1 101 Switching Protocols\r\nUpgrade: %s\r\nConnection: Upgrade\r\n\r\n", r.Header.Get("Upgrade"))
		buffered.Flush()
		line, _ := buffered.ReadString('\n')
		fmt.Fprint(buffered, "echo ", line)
		buffered.Flush()
	})
	connection, err := net.Dial("tcp", server.Listener.Addr().String())
	require.NoError(t, err)
	defer connection.Close()
	fmt.Fprint(connection, "GET /live HTTP/1.1\r\nHost: fernhollow.localhost\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n\r\n")
	answer := bufio.NewReader(connection)
	response, err := http.ReadResponse(answer, nil)
	require.NoError(t, err)
	assert.Equal(t, 101, response.StatusCode)
	fmt.Fprint(connection, "hello\n")
	line, err := answer.ReadString('\n')
	require.NoError(t, err)
	assert.Equal(t, "echo hello\n", line)
}

// What can be asked twice is asked again while an engine comes back; what cannot is asked once.
func TestTheGatewayIsPatientWithWhatCanBeRepeated(t *testing.T) {
	asked := map[string]int{}
	var mu sync.Mutex
	server, _ := garden(t, site.Running, func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		asked[r.Method+r.URL.Path]++
		count := asked[r.Method+r.URL.Path]
		mu.Unlock()
		switch r.URL.Path {
		case "/gone": // a web server whose PHP is being started again
			if count < 3 {
				w.WriteHeader(http.StatusBadGateway)
				return
			}
		case "/apache":
			if count < 3 {
				w.Header().Set("Content-Type", apacheError)
				w.WriteHeader(http.StatusServiceUnavailable)
				return
			}
		case "/middle":
			w.Header().Set("Content-Type", apacheError)
			if count < 3 {
				w.WriteHeader(http.StatusInternalServerError)
				return
			}
		case "/htaccess":
			w.Header().Set("Content-Type", apacheError)
			w.WriteHeader(http.StatusInternalServerError)
		case "/cut":
			if count < 3 {
				panic(http.ErrAbortHandler)
			}
		case "/own": // the site's own words are passed on
			w.Header().Set("X-Powered-By", "PHP/8.2.36")
			w.WriteHeader(http.StatusBadGateway)
		case "/maintenance":
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			w.WriteHeader(http.StatusServiceUnavailable)
		}
		io.WriteString(w, "fern")
	})
	for _, each := range []struct {
		method, path  string
		status, times int
	}{
		{"GET", "/gone", 200, 3}, {"HEAD", "/gone", 200, 3}, {"GET", "/apache", 200, 3}, {"GET", "/cut", 200, 3}, {"GET", "/middle", 200, 3},
		{"GET", "/htaccess", 500, 3}, {"POST", "/middle", 500, 1}, {"POST", "/gone", 502, 1}, {"POST", "/apache", 503, 1},
		{"POST", "/cut", 502, 1},
		{"GET", "/own", 502, 1}, {"GET", "/maintenance", 503, 1},
	} {
		request, err := http.NewRequest(each.method, server.URL+each.path, nil)
		require.NoError(t, err)
		if each.method == "POST" {
			request, err = http.NewRequest(each.method, server.URL+each.path, strings.NewReader("seed"))
			require.NoError(t, err)
		}
		request.Host = "fernhollow.localhost"
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		response.Body.Close()
		assert.Equal(t, each.status, response.StatusCode, each.method+each.path)
		mu.Lock()
		assert.Equal(t, each.times, asked[each.method+each.path], each.method+each.path)
		mu.Unlock()
	}
}

// A site may answer before it has read what is sent to it; the visitor's connection goes on serving.
func TestAnAnswerBeforeTheWholeRequestIsRead(t *testing.T) {
	server, _ := garden(t, site.Running, func(w http.ResponseWriter, r *http.Request) {
		answer := http.NewResponseController(w)
		answer.EnableFullDuplex()
		if r.Method == http.MethodPost {
			w.WriteHeader(http.StatusForbidden)
		}
		io.WriteString(w, "fern")
		answer.Flush()
		io.Copy(io.Discard, r.Body) // web servers do it before they close: the answer would be lost otherwise
	})
	connection, err := net.Dial("tcp", server.Listener.Addr().String())
	require.NoError(t, err)
	defer connection.Close()
	connection.SetDeadline(time.Now().Add(20 * time.Second))
	answers := bufio.NewReader(connection)
	for range 5 {
		fmt.Fprint(connection, "POST /wp-login.php HTTP/1.1\r\nHost: fernhollow.localhost\r\nContent-Length: 40000\r\n\r\n")
		fmt.Fprint(connection, strings.Repeat("seed", 5000))
		refused, err := http.ReadResponse(answers, nil)
		require.NoError(t, err)
		assert.Equal(t, 403, refused.StatusCode, "before the second half is sent")
		fmt.Fprint(connection, strings.Repeat("seed", 5000))
		text, err := io.ReadAll(refused.Body)
		require.NoError(t, err)
		assert.Equal(t, "fern", string(text))
		fmt.Fprint(connection, "GET / HTTP/1.1\r\nHost: fernhollow.localhost\r\n\r\n")
		page, err := http.ReadResponse(answers, nil)
		require.NoError(t, err, "the next request on the same connection")
		assert.Equal(t, 200, page.StatusCode)
		_, err = io.ReadAll(page.Body)
		require.NoError(t, err)
	}
}

func TestAFaultIsToldBeforeTheWholeRequestIsSent(t *testing.T) {
	server, _ := garden(t, site.Running, func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) })
	connection, err := net.Dial("tcp", server.Listener.Addr().String())
	require.NoError(t, err)
	defer connection.Close()
	connection.SetDeadline(time.Now().Add(20 * time.Second))
	fmt.Fprint(connection, "POST / HTTP/1.1\r\nHost: fernhollow.localhost\r\nContent-Length: 40000\r\n\r\n")
	go func() {
		for err := error(nil); err == nil; time.Sleep(20 * time.Millisecond) {
			_, err = fmt.Fprint(connection, "seed")
		}
	}()
	answer, err := http.ReadResponse(bufio.NewReader(connection), nil)
	require.NoError(t, err, "no answer while the rest is sent")
	assert.Equal(t, 502, answer.StatusCode)
}

func TestAFailureForWantOfADatabaseIsAskedAgain(t *testing.T) {
	asked := 0
	server, f := garden(t, site.Running, func(w http.ResponseWriter, r *http.Request) {
		if asked++; asked < 4 || r.URL.Path == "/broken" {
			w.WriteHeader(http.StatusInternalServerError)
		}
		fmt.Fprint(w, asked)
	})
	response, text := ask(t, server, "fernhollow.localhost", "/", nil)
	assert.Equal(t, 500, response.StatusCode, "the site's own fault is its answer")
	assert.Equal(t, "1", text)
	f.back = time.Now().Add(200 * time.Millisecond)
	response, _ = ask(t, server, "fernhollow.localhost", "/", strings.NewReader("seeds=3"))
	assert.Equal(t, 500, response.StatusCode, "what is sent is not sent twice")
	assert.Equal(t, 2, asked)
	response, text = ask(t, server, "fernhollow.localhost", "/", nil)
	assert.Equal(t, 200, response.StatusCode)
	assert.Equal(t, "4", text)
	f.back = time.Now().Add(200 * time.Millisecond)
	response, _ = ask(t, server, "fernhollow.localhost", "/broken", nil)
	assert.Equal(t, 500, response.StatusCode)
	assert.Greater(t, time.Now(), f.back, "asked until the server was back")
}

func TestARequestThatHangsSinceTheDatabaseDiedIsAskedAgain(t *testing.T) {
	var asked atomic.Int64
	server, f := garden(t, site.Running, func(w http.ResponseWriter, r *http.Request) {
		if asked.Add(1) == 1 {
			<-r.Context().Done()
			return
		}
		fmt.Fprint(w, "fern")
	})
	f.back = time.Now().Add(time.Second)
	began := time.Now()
	response, text := ask(t, server, "fernhollow.localhost", "/", nil)
	assert.Equal(t, 200, response.StatusCode)
	assert.Equal(t, "fern", text)
	assert.Less(t, time.Since(began), hungAfter+2*time.Second)
}

// A CMS that finds its database gone tries for some seconds by itself before it gives up.
func TestAFailureAfterALongTryIsAskedAgain(t *testing.T) {
	asked := 0
	server, f := garden(t, site.Running, func(w http.ResponseWriter, r *http.Request) {
		if asked++; asked == 1 {
			time.Sleep(patience + 100*time.Millisecond)
			w.WriteHeader(http.StatusInternalServerError)
		}
		fmt.Fprint(w, asked)
	})
	f.back = time.Now().Add(time.Second)
	response, text := ask(t, server, "fernhollow.localhost", "/", nil)
	assert.Equal(t, 200, response.StatusCode)
	assert.Equal(t, "2", text)
}

func TestATicketIsHandedToTheSiteAndToNoOther(t *testing.T) {
	server, f := garden(t, site.Running, func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprintf(w, "%s %s %s", r.URL.Path, r.Header.Get("X-Vessik-Probe"), r.Header.Get("X-Vessik-Ticket"))
	})
	response, text := ask(t, server, "fernhollow.localhost", "/vessik-ticket/good?a=1", nil)
	assert.Equal(t, 200, response.StatusCode)
	assert.Equal(t, "/index.php s3cret aGVhZC1rZWVwZXI=", text, "the site's own PHP is told who it is for")
	for _, path := range []string{"/vessik-ticket/", "/vessik-ticket/used", "/vessik-ticket/good/more"} {
		response, text = ask(t, server, "fernhollow.localhost", path, nil)
		assert.Equal(t, 403, response.StatusCode, path)
		assert.Contains(t, text, "This ticket is not good")
		assert.Contains(t, text, "vessik ticket fernhollow -open", "the remedy")
	}
	response, _ = ask(t, server, "fernhollow.localhost", "/vessik-ticket/good", strings.NewReader("x=1"))
	assert.Equal(t, 403, response.StatusCode, "only what a browser opens")
	f.set(site.Stopped)
	response, _ = ask(t, server, "fernhollow.localhost", "/vessik-ticket/good", nil)
	assert.Equal(t, 503, response.StatusCode)
}

func TestADomainThatASiteHadLeadsToTheOneThatItHas(t *testing.T) {
	server, f := garden(t, site.Running, func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, r.Host) })
	f.sites = append(f.sites, f.sites[0])
	f.sites[1].Domain = "old.test" // as the provisioner finds it
	f.sites[1].Forwards = []site.Forward{{Domain: "old.test"}}
	f.sites[1].Domain, f.sites[0].Domain = "fernhollow.localhost", "other.localhost"
	byOld := &forwarding{fleet: f}
	g := New(byOld, site.Gateway{HTTP: 20080, HTTPS: 20443}, "")
	old := httptest.NewServer(g)
	defer old.Close()
	response, _ := ask(t, old, "old.test", "/a%2Fb/?c=d", nil)
	assert.Equal(t, 307, response.StatusCode)
	assert.Equal(t, "http://fernhollow.localhost:20080/a%2Fb/?c=d", response.Header.Get("Location"))
	assert.Equal(t, "no-store", response.Header.Get("Cache-Control"), "it is for a while only")
	_, text := ask(t, server, "other.localhost", "/", nil)
	assert.Equal(t, "other.localhost", text)
}

// A connection that was in use while the web server took up another configuration leads to the old one for as long as it lives.
func TestForgottenConnectionsAreNotUsedAgain(t *testing.T) {
	inside, goOn := make(chan struct{}, 1), make(chan struct{})
	server, _ := garden(t, site.Running, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/long" {
			inside <- struct{}{}
			<-goOn
		}
		fmt.Fprint(w, r.RemoteAddr)
	})
	g := server.Config.Handler.(*Gateway)
	_, first := ask(t, server, "fernhollow.localhost", "/", nil)
	_, again := ask(t, server, "fernhollow.localhost", "/", nil)
	assert.Equal(t, first, again, "kept")
	long := make(chan string)
	go func() {
		_, text := ask(t, server, "fernhollow.localhost", "/long", nil)
		long <- text
	}()
	<-inside
	g.DropConnections()
	close(goOn)
	assert.Equal(t, first, <-long)
	_, after := ask(t, server, "fernhollow.localhost", "/", nil)
	assert.NotEqual(t, first, after)
}

// forwarding finds every host's site in the last one.
type forwarding struct{ *fleet }

func (f *forwarding) ByDomain(string) (site.Site, bool) { return f.sites[len(f.sites)-1], true }
