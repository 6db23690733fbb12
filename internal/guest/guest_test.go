package guest

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"log/slog"
	"mime/multipart"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

const (
	here  = "http://orchard-days.localhost:20080"
	there = "https://k3v9x2mq.guests.example"
)

// orchard is a site that answers as a test says.
type orchard struct {
	site    site.Site
	spool   string
	answer  http.HandlerFunc
	asked   *http.Request // the last
	brought string
}

func (o *orchard) Site(name string) (site.Site, bool) { return o.site, name == o.site.Name }
func (o *orchard) Gateway() site.Gateway              { return site.Gateway{HTTP: 20080, HTTPS: 20443} }
func (o *orchard) Spool() string                      { return o.spool }
func (o *orchard) IsFile(_ site.Site, address string) bool {
	return address == "/wp-content/apple.jpg"
}
func (o *orchard) Pass(w http.ResponseWriter, r *http.Request, _ site.Site) {
	text, _ := io.ReadAll(r.Body)
	o.asked, o.brought = r, string(text)
	if o.answer != nil {
		o.answer(w, r)
	}
}

// garden is a site with guests; now may be moved on.
func garden(t *testing.T, i Invitation) (g *Guests, o *orchard, now *time.Time) {
	t.Helper()
	o = &orchard{site: site.Site{Name: "orchard-days", Domain: "orchard-days.localhost", State: site.Running}, spool: t.TempDir()}
	moment := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	g = New(o, slog.New(slog.DiscardHandler))
	g.Now = func() time.Time { return moment }
	i.ID, i.Site, i.Bases, i.Until = "first", "orchard-days", map[string]string{"orchard-days.localhost": there}, moment.Add(time.Hour)
	g.Invite(i)
	return g, o, &moment
}

func ask(g *Guests, method, address string, body io.Reader, header ...string) *httptest.ResponseRecorder {
	r := httptest.NewRequest(method, address, body)
	r.RemoteAddr = "203.0.113.7:0"
	for i := 0; i < len(header); i += 2 {
		r.Header.Add(header[i], header[i+1])
	}
	w := httptest.NewRecorder()
	g.ServeHTTP(w, r)
	return w
}

func TestAGuestSeesAPageAtItsOtherAddress(t *testing.T) {
	g, o, _ := garden(t, Invitation{})
	o.answer = func(w http.ResponseWriter, r *http.Request) {
		head := w.Header()
		head.Set("Content-Type", "text/html; charset=UTF-8")
		head.Set("Link", "<"+here+"/wp-json/>; rel=https://api.w.org/")
		head.Set("Content-Security-Policy", "default-src 'self'; img-src orchard-days.localhost:20080 data:; connect-src "+
			"ws://orchard-days.localhost:20080")
		head.Set("Access-Control-Allow-Origin", here)
		head.Set("Strict-Transport-Security", "max-age=31536000")
		head.Add("Set-Cookie", `basket={"a": "`+here+`/"}; domain=orchard-days.localhost; Path=/; HttpOnly; Priority=High`)
		head.Set("Content-Length", "10000")
		fmt.Fprintf(w, `<a href="%s/about/">About</a><script>var a = "http:\/\/orchard-days.localhost:20080\/wp-json\/"</script>`, here)
	}
	w := ask(g, "GET", there+"/shop/?back=https%3A%2F%2Fk3v9x2mq.guests.example%2Fabout%2F", nil, "Origin", there, "Referer", there+"/",
		"Accept-Encoding", "br", "X-Vessik-Probe", "guessed", "Cookie", `basket={"a": 1}; `+cookieName+"=secret; b")
	require.Equal(t, 200, w.Code)
	assert.Equal(t, `<a href="`+there+`/about/">About</a><script>var a = "https:\/\/k3v9x2mq.guests.example\/wp-json\/"</script>`,
		w.Body.String())
	head := w.Header()
	assert.Equal(t, "<"+there+"/wp-json/>; rel=https://api.w.org/", head.Get("Link"))
	assert.Equal(t, "default-src 'self'; img-src k3v9x2mq.guests.example data:; connect-src wss://k3v9x2mq.guests.example",
		head.Get("Content-Security-Policy"))
	assert.Equal(t, there, head.Get("Access-Control-Allow-Origin"))
	assert.Equal(t, `basket={"a": "`+there+`/"}; Path=/; HttpOnly; Priority=High; Secure`, head.Get("Set-Cookie"),
		"no other guest's host is sent it")
	assert.Contains(t, head.Get("X-Robots-Tag"), "noindex")
	assert.Empty(t, head.Get("Strict-Transport-Security")+head.Get("Content-Length"))

	assert.Equal(t, "orchard-days.localhost:20080", o.asked.Host)
	assert.Equal(t, "back=http%3A%2F%2Forchard-days.localhost%3A20080%2Fabout%2F", o.asked.URL.RawQuery)
	assert.Equal(t, []string{here, here + "/", `basket={"a": 1}; b`}, []string{o.asked.Header.Get("Origin"), o.asked.Header.Get("Referer"),
		o.asked.Header.Get("Cookie")})
	assert.Empty(t, o.asked.Header.Get("X-Vessik-Probe")+o.asked.Header.Get("Accept-Encoding"))
	assert.Equal(t, "203.0.113.7:0", o.asked.RemoteAddr, "the site sees who asks")
}

func TestWhatAGuestSendsIsLedBack(t *testing.T) {
	g, o, _ := garden(t, Invitation{})
	ask(g, "POST", there+"/wp-login.php", strings.NewReader(url.Values{"redirect_to": {there + "/wp-admin/"}}.Encode()),
		"Content-Type", "application/x-www-form-urlencoded")
	assert.Equal(t, "redirect_to=http%3A%2F%2Forchard-days.localhost%3A20080%2Fwp-admin%2F", o.brought)
	assert.EqualValues(t, len(o.brought), o.asked.ContentLength)
	ask(g, "POST", there+"/wp-json/", strings.NewReader(`{"content":"<img src=\"https:\/\/k3v9x2mq.guests.example\/a.jpg\">"}`),
		"Content-Type", "application/json")
	assert.Equal(t, `{"content":"<img src=\"http:\/\/orchard-days.localhost:20080\/a.jpg\">"}`, o.brought)

	var form bytes.Buffer
	parts := multipart.NewWriter(&form)
	require.NoError(t, parts.WriteField("from", there+"/"))
	file, err := parts.CreateFormFile("file", "apple.txt")
	require.NoError(t, err)
	io.WriteString(file, "an apple of "+there+"/\x00\xff")
	require.NoError(t, parts.Close())
	ask(g, "POST", there+"/wp-admin/async-upload.php", &form, "Content-Type", parts.FormDataContentType())
	assert.Contains(t, o.brought, here+"/\r\n")
	assert.Contains(t, o.brought, "an apple of "+there+"/\x00\xff", "a file stays as it is")
	assert.EqualValues(t, len(o.brought), o.asked.ContentLength)
	w := ask(g, "POST", there+"/", strings.NewReader("--x\r\nContent-Disposition: form-data; name=a\r\n\r\ncut"), "Content-Type",
		"multipart/form-data; boundary=x")
	assert.Equal(t, http.StatusRequestEntityTooLarge, w.Code)
}

func TestAnswersOfEveryKindAreLed(t *testing.T) {
	g, o, _ := garden(t, Invitation{})
	answers := func(kind, encoding, text string) *httptest.ResponseRecorder {
		o.answer = func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", kind)
			if encoding != "" {
				w.Header().Set("Content-Encoding", encoding)
			}
			io.WriteString(w, text)
		}
		return ask(g, "GET", there+"/", nil)
	}
	for _, kind := range []string{"text/css", "application/javascript", "application/rss+xml; charset=UTF-8", "image/svg+xml",
		"application/ld+json", "text/event-stream"} {
		assert.Equal(t, there+"/a", answers(kind, "", here+"/a").Body.String(), kind)
	}
	assert.Equal(t, here+"/a", answers("image/jpeg", "", here+"/a").Body.String())
	assert.Equal(t, here+"/a", answers("text/html", "br", here+"/a").Body.String(), "what nobody here can read goes on as it is")
	var packed bytes.Buffer
	to := gzip.NewWriter(&packed)
	io.WriteString(to, here+"/a")
	require.NoError(t, to.Close())
	w := answers("text/html", "gzip", packed.String())
	assert.Equal(t, []string{there + "/a", ""}, []string{w.Body.String(), w.Header().Get("Content-Encoding")})
	o.answer = func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, here+"/wp-login.php?redirect_to="+url.QueryEscape(here+"/wp-admin/"), http.StatusFound)
	}
	assert.Equal(t, there+"/wp-login.php?redirect_to="+url.QueryEscape(there+"/wp-admin/"), ask(g, "GET", there+"/",
		nil).Header().Get("Location"))
	assert.Equal(t, "User-agent: *\nDisallow: /\n", ask(g, "GET", there+"/robots.txt", nil).Body.String())
}

func TestAScriptIsPutAtThePagesEnd(t *testing.T) {
	g, o, _ := garden(t, Invitation{Remarks: true})
	g.Script = func(Invitation) string { return "<script src=x></script>" }
	for text, want := range map[string]string{"<body>a</body></html>": "<body>a<script src=x></script></body></html>",
		"<p>no end": "<p>no end<script src=x></script>", "": "<script src=x></script>"} {
		o.answer = func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			for _, c := range []byte(text) {
				w.Write([]byte{c})
			}
			w.Write(nil)
		}
		assert.Equal(t, want, ask(g, "GET", there+"/", nil, "Sec-Fetch-Dest", "document").Body.String())
		for _, asked := range [][]string{{}, {"Sec-Fetch-Dest", "empty"}, {"Accept", "text/html", "X-Requested-With", "XMLHttpRequest"}} {
			assert.Equal(t, text, ask(g, "POST", there+"/wp-admin/admin-ajax.php", nil, asked...).Body.String(), "a script's answer stays as it is")
		}
	}
}

func TestAPasswordLetsIn(t *testing.T) {
	g, _, now := garden(t, Invitation{Password: "ripe-pear-cider"})
	w := ask(g, "GET", there+"/shop/?a=1", nil)
	assert.Equal(t, http.StatusUnauthorized, w.Code)
	assert.Contains(t, w.Body.String(), `value="/shop/?a=1"`)
	assert.NotContains(t, w.Body.String(), "orchard", "who is not let in is told nothing of the site")
	say := func(password, to string) *httptest.ResponseRecorder {
		return ask(g, "POST", there+Path, strings.NewReader(url.Values{"password": {password}, "to": {to}}.Encode()), "Content-Type",
			"application/x-www-form-urlencoded")
	}
	for to, leads := range map[string]string{"/shop/": "/shop/", "//elsewhere.example": "/", "https://elsewhere.example": "/",
		`/\elsewhere`: "/"} {
		w = say("ripe-pear-cider", to)
		require.Equal(t, http.StatusSeeOther, w.Code)
		assert.Equal(t, leads, w.Header().Get("Location"))
	}
	cookie := w.Result().Cookies()[0]
	assert.Equal(t, []any{true, true, http.SameSiteLaxMode, "/", ""}, []any{cookie.Secure, cookie.HttpOnly, cookie.SameSite, cookie.Path,
		cookie.Domain})
	with := []string{"Cookie", cookie.Name + "=" + cookie.Value}
	assert.Equal(t, 200, ask(g, "GET", there+"/", nil, with...).Code)
	assert.Equal(t, http.StatusNotFound, ask(g, "GET", there+site.TicketPath+"guessed", nil, with...).Code, "tickets are for this machine")

	other := "https://second.guests.example"
	g.Invite(Invitation{ID: "second", Site: "orchard-days", Bases: map[string]string{"orchard-days.localhost": other},
		Until:    now.Add(time.Hour),
		Password: "another-one"})
	assert.Equal(t, http.StatusUnauthorized, ask(g, "GET", other+"/", nil, with...).Code, "a session is of one invitation")
	*now = now.Add(time.Hour)
	assert.Equal(t, http.StatusNotFound, ask(g, "GET", there+"/", nil, with...).Code, "it is over")
}

func TestGuessesAreSlowedDownAndThenShutOut(t *testing.T) {
	g, _, now := garden(t, Invitation{Password: "ripe-pear-cider"})
	from := "203.0.113.7"
	say := func(password string) int {
		r := httptest.NewRequest("POST", there+Path, strings.NewReader("password="+password))
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		if r.RemoteAddr = from + ":0"; strings.Contains(from, ":") {
			r.RemoteAddr = "[" + from + "]:0"
		}
		w := httptest.NewRecorder()
		g.ServeHTTP(w, r)
		return w.Code
	}
	assert.Equal(t, []int{401, 401, 429, 429}, []int{say("a"), say("b"), say("c"), say("ripe-pear-cider")}, "not even the right one is heard")
	*now = now.Add(2 * time.Second)
	assert.Equal(t, http.StatusSeeOther, say("ripe-pear-cider"))
	for range mostTries {
		say("wrong")
		*now = now.Add(5 * time.Minute)
	}
	*now = now.Add(-5 * time.Minute)
	assert.Equal(t, 429, say("ripe-pear-cider"), "shut out")
	from = "203.0.113.8"
	assert.Equal(t, http.StatusSeeOther, say("ripe-pear-cider"), "others are not")

	g, _, now = garden(t, Invitation{Password: "ripe-pear-cider"})
	codes := map[int]int{}
	for i := range 200 { // many who guess together
		from = fmt.Sprintf("198.51.100.%d", i)
		codes[say("wrong")]++
	}
	assert.LessOrEqual(t, codes[401], mostByAll)
	from = "192.0.2.1"
	assert.Equal(t, 429, say("ripe-pear-cider"))
	*now = now.Add(time.Minute)
	assert.Equal(t, http.StatusSeeOther, say("ripe-pear-cider"))
	for i := range mostTries {
		from = fmt.Sprintf("2001:db8::%x", i+1)
		say("wrong")
		*now = now.Add(5 * time.Second)
	}
	assert.Equal(t, 429, say("ripe-pear-cider"), "a network of IPv6 is one guest")
}

func TestAnInvitationForOnePartShowsNothingElse(t *testing.T) {
	g, o, _ := garden(t, Invitation{Only: "/shop/"})
	for address, lets := range map[string]bool{"/shop/": true, "/shop": true, "/shop/pears/": true, "/wp-content/apple.jpg?ver=1": true,
		"/": false, "/shops/": false, "/shop/../about/": false, "/shop/%2e%2e/about/": false, "/shop/..%2fabout/": false,
		"/shop//../about/": false,
		"/shop/?p=12":      false, "/shop/?page_id=3": false, "/?p=12&.jpg": false, "/about/apple.jpg": false, "/index.php/shop/": false,
		"/shop/;/about": false, `/shop/..\about`: false, "/wp-login.php": false, "/SHOP/": false, "//shop/": false} {
		o.asked = nil
		w := ask(g, "GET", there+address, nil)
		assert.Equal(t, lets, o.asked != nil, address)
		assert.Equal(t, lets, w.Code == 200, address)
		if o.asked != nil {
			assert.Empty(t, o.asked.URL.RawQuery, "a query could name another page")
		}
	}
	assert.Equal(t, 403, ask(g, "POST", there+"/shop/", strings.NewReader("p=12")).Code)
	g, _, _ = garden(t, Invitation{Only: "/spip.php?article12"})
	assert.Equal(t, []int{200, 403, 403}, []int{ask(g, "GET", there+"/spip.php?article12", nil).Code,
		ask(g, "GET", there+"/spip.php?article13", nil).Code, ask(g, "GET", there+"/spip.php", nil).Code})
	g, _, _ = garden(t, Invitation{Only: "/%C3%A4pfel/"})
	assert.Equal(t, []int{200, 403}, []int{ask(g, "GET", there+"/%C3%A4pfel/", nil).Code, ask(g, "GET", there+"/%C3%B6l/", nil).Code})
}

func TestWhoMayOnlyLookChangesNothing(t *testing.T) {
	for _, i := range []Invitation{{ReadOnly: true}, {NoSignIn: true}} {
		i.Shut = []string{"wp-login.php"}
		g, o, _ := garden(t, i)
		o.answer = func(w http.ResponseWriter, _ *http.Request) { w.Header().Set("Set-Cookie", "wordpress_logged_in=ines") }
		w := ask(g, "GET", there+"/", nil, "Cookie", "wordpress_logged_in=ines", "Authorization", "Basic aW5lczppbmVz",
			"X-HTTP-Method-Override", "POST")
		assert.Equal(t, []string{"", "", "", ""}, []string{w.Header().Get("Set-Cookie"), o.asked.Header.Get("Cookie"),
			o.asked.Header.Get("Authorization"), o.asked.Header.Get("X-HTTP-Method-Override")}, "the site knows nobody again")
		for _, address := range []string{"/wp-login.php", "/WP-Login.php/", "/north/wp-login.php", "/a/../wp-login.php", "//wp-login.php"} {
			assert.Equal(t, 403, ask(g, "GET", there+address, nil).Code, address)
		}
	}
	g, o, _ := garden(t, Invitation{ReadOnly: true})
	for _, method := range []string{"POST", "PUT", "PATCH", "DELETE", "PROPFIND"} {
		assert.Equal(t, 403, ask(g, method, there+"/wp-json/", nil).Code)
	}
	for _, address := range []string{"/wp-json/wp/v2/comments?_method=POST&post=1", "/?%5Fmethod=DELETE", "/?.method=POST", "/?_METHOD=PUT"} {
		assert.Equal(t, 403, ask(g, "GET", there+address, nil).Code, address)
	}
	assert.Equal(t, 403, ask(g, "GET", there+"/", nil, "Upgrade", "websocket").Code)
	assert.Nil(t, o.asked)
}

func TestWhoAskedWhatIsNoted(t *testing.T) {
	g, o, _ := garden(t, Invitation{ReadOnly: true})
	var noted []wire.Guested
	g.Note = func(_ Invitation, asked wire.Guested) { noted = append(noted, asked) }
	ask(g, "GET", there+"/a?b=c", nil)
	ask(g, "POST", there+"/", nil)
	o.site.State = site.Stopped
	w := ask(g, "GET", there+"/", nil)
	assert.Contains(t, w.Body.String(), `http-equiv="refresh"`)
	for i, want := range [][]any{{"GET", "/a?b=c", 200, ""}, {"POST", "/", 403, "This invitation is for looking only."},
		{"GET", "/", 503, "not running"}} {
		n := noted[i]
		assert.Equal(t, want, []any{n.Method, n.Address, n.Status, n.Refused})
		assert.Equal(t, "203.0.113.7", n.Guest)
	}
	assert.Equal(t, 1, g.Count(Invitation{ID: "first"}))
	g.End(Invitation{ID: "first"})
	assert.Equal(t, 404, ask(g, "GET", there+"/", nil).Code)
	assert.Equal(t, 404, ask(g, "GET", "https://other.guests.example/", nil, "X-Forwarded-Host", "k3v9x2mq.guests.example").Code)
	assert.Len(t, noted, 3, "who asks nothing of ours is not kept")
}

// An invitation that ends takes with it what is being answered: a stream of events would go on for ever.
func TestAnInvitationThatEndsEndsWhatGoesOn(t *testing.T) {
	g, o, _ := garden(t, Invitation{})
	began, broke := make(chan bool), make(chan bool)
	o.answer = func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream")
		close(began)
		<-r.Context().Done()
		close(broke)
	}
	go ask(g, "GET", there+"/events", nil)
	<-began
	g.End(Invitation{ID: "first"})
	select {
	case <-broke:
	case <-time.After(5 * time.Second):
		t.Fatal("it went on")
	}
}

// What guests send shares the room that there is: who sends a lot is told so, and nothing is left of it.
func TestWhatGuestsSendIsBounded(t *testing.T) {
	g, o, _ := garden(t, Invitation{})
	g.spooled.Store(mostSpooledByAll - 10)
	w := ask(g, "POST", there+"/", strings.NewReader(`{"a": "longer than that"}`), "Content-Type", "application/json")
	assert.Equal(t, http.StatusRequestEntityTooLarge, w.Code)
	assert.Nil(t, o.asked)
	assert.EqualValues(t, mostSpooledByAll-10, g.spooled.Load())
	g.spooled.Store(0)
	ask(g, "POST", there+"/", strings.NewReader(`{"a": 1}`), "Content-Type", "application/json")
	assert.Equal(t, `{"a": 1}`, o.brought)
	assert.Zero(t, g.spooled.Load())
	left, err := os.ReadDir(o.spool)
	require.NoError(t, err)
	assert.Empty(t, left)
}

// The way from home is narrow: what is text goes compressed to whoever knows how, a stream of events as it comes.
func TestTextIsCompressedOnItsWay(t *testing.T) {
	g, o, _ := garden(t, Invitation{})
	kind := ""
	o.answer = func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", kind)
		io.WriteString(w, strings.Repeat(here+"/ ", 1000))
	}
	for each, packed := range map[string]bool{"text/html; charset=utf-8": true, "application/json": true, "text/css": true,
		"text/event-stream": false, "image/png": false, "application/zip": false} {
		kind = each
		w := ask(g, "GET", there+"/", nil, "Accept-Encoding", "gzip, br")
		assert.Equal(t, packed, w.Header().Get("Content-Encoding") == "gzip", each)
		if packed {
			assert.Less(t, w.Body.Len(), 2000)
			text, err := gzip.NewReader(w.Body)
			require.NoError(t, err)
			plain, err := io.ReadAll(text)
			require.NoError(t, err)
			assert.Equal(t, strings.Repeat(there+"/ ", 1000), string(plain))
		}
	}
	kind = "text/html"
	assert.Empty(t, ask(g, "GET", there+"/", nil).Header().Get("Content-Encoding"))
}
