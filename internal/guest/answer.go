package guest

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"compress/zlib"
	"io"
	"mime"
	"net"
	"net/http"
	"slices"
	"strings"

	"github.com/klauspost/compress/zstd"

	"vessik/internal/core/rewrite"
)

// answer is what a site answers a guest, on its way.
type answer struct {
	http.ResponseWriter
	by      ways
	request *http.Request
	script  string // put at the end of pages
	// anonymous has no cookie of the site reach the guest.
	anonymous bool
	asIs      bool // no address is led

	began  bool
	stream *rewrite.Stream // of a text that is led
	plain  *io.PipeWriter  // of one that the site compressed, which is read on the other end
	read   chan struct{}
	page   bool
	tail   []byte // of a page, that may have its end
}

// textual are the kinds of content in which addresses stand.
var textual = map[string]bool{"application/json": true, "application/javascript": true, "application/x-javascript": true,
	"application/ecmascript": true, "application/xml": true, "application/manifest+json": true, "image/svg+xml": true,
	"application/x-www-form-urlencoded": true, "application/x-ndjson": true, "application/graphql": true}

func isText(kind string) bool {
	kind, _, _ = mime.ParseMediaType(kind)
	return strings.HasPrefix(kind, "text/") || textual[kind] || strings.HasPrefix(kind, "application/") && (strings.HasSuffix(kind, "+json") ||
		strings.HasSuffix(kind, "+xml"))
}

// Ending puts a script at the end of a page on its way; end must be called once it was answered.
func Ending(w http.ResponseWriter, r *http.Request, script string) (ended http.ResponseWriter, end func()) {
	r.Header.Del("Accept-Encoding")
	a := &answer{ResponseWriter: w, request: r, script: script, asIs: true}
	return a, a.close
}

// Unwrap lets http.ResponseController reach what is beneath.
func (a *answer) Unwrap() http.ResponseWriter { return a.ResponseWriter }

// Hijack implements http.Hijacker: what follows is a WebSocket.
func (a *answer) Hijack() (net.Conn, *bufio.ReadWriter, error) {
	a.began = true
	return http.NewResponseController(a.ResponseWriter).Hijack()
}

func (a *answer) WriteHeader(status int) {
	if status >= 200 && !a.began {
		a.began = true
		a.header(status)
	}
	a.ResponseWriter.WriteHeader(status)
}

// header leads what stands in an answer's header, and settles how its body is led.
func (a *answer) header(status int) {
	head := a.Header()
	if a.anonymous {
		head.Del("Set-Cookie")
	}
	if !a.asIs {
		leadHeader(head, a.by.out)
	}
	kind := head.Get("Content-Type")
	if !isText(kind) || status == http.StatusPartialContent || status == http.StatusNotModified || status == http.StatusNoContent {
		return
	}
	unpack := unpacking(head.Get("Content-Encoding"))
	if unpack == nil {
		return // it is compressed in a way that nobody asked for
	}
	if a.request.Method == http.MethodHead {
		head.Del("Content-Length")
		return
	}
	a.page = a.script != "" && status == http.StatusOK && strings.HasPrefix(kind, "text/html") && isDocument(a.request)
	if a.page {
		a.script = admit(head, a.script)
	}
	a.stream = rewrite.NewStream(writerFunc(a.written), a.by.out...)
	head.Del("Content-Length")
	head.Del("Content-Md5")
	head.Del("Digest")
	if head.Get("Content-Encoding") != "" && head.Get("Content-Encoding") != "identity" {
		head.Del("Content-Encoding")
		a.unpack(unpack)
	}
}

// isDocument tells whether a page is asked for to be shown, and not by a script, which may take what it gets for something else.
func isDocument(r *http.Request) bool {
	switch r.Header.Get("Sec-Fetch-Dest") {
	case "document", "iframe":
		return true
	case "":
		return strings.Contains(r.Header.Get("Accept"), "text/html") && r.Header.Get("X-Requested-With") == ""
	}
	return false
}

// leadHeader leads all fields of an answer's header. Cookies are for the host that set them alone: other guests have the hosts beside it.
func leadHeader(head http.Header, by []*rewrite.Rewriter) {
	for name, values := range head {
		if name == "Set-Cookie" || name == "Strict-Transport-Security" {
			continue
		}
		for i := range values {
			values[i] = leadHosts(by, values[i])
		}
	}
	leadCookies(head, by)
	head.Del("Strict-Transport-Security")
	head.Del("Alt-Svc")
	head.Del("Clear-Site-Data") // it would end the guest's own session
	if robots := head.Values("X-Robots-Tag"); len(robots) != 1 {
		head.Set("X-Robots-Tag", "noindex, nofollow, noarchive")
	}
}

// leadCookies has cookies be for the host that is asked alone, and go by TLS only; all else of them stays as it was written.
func leadCookies(head http.Header, by []*rewrite.Rewriter) {
	set := head.Values("Set-Cookie")
	head.Del("Set-Cookie")
	for _, line := range set {
		parts := strings.Split(line, ";")
		if name, _, _ := strings.Cut(strings.TrimSpace(parts[0]), "="); name == cookieName {
			continue
		}
		kept := []string{lead(by, strings.TrimSpace(parts[0]))}
		for _, each := range parts[1:] {
			name, _, _ := strings.Cut(strings.TrimSpace(each), "=")
			if !strings.EqualFold(name, "Domain") && !strings.EqualFold(name, "Secure") && name != "" {
				kept = append(kept, strings.TrimSpace(each))
			}
		}
		head.Add("Set-Cookie", strings.Join(append(kept, "Secure"), "; "))
	}
}

// leadHosts leads a field of a header, in which also a host alone may stand, as in a content security policy.
func leadHosts(by []*rewrite.Rewriter, text string) string {
	text = lead(by, text)
	for _, r := range by {
		text = r.Hosts(text)
	}
	return text
}

// unpacking is how a content is read that was compressed (RFC 9110, section 8.4); nil for one that cannot be.
func unpacking(encoding string) func(io.Reader) (io.Reader, error) {
	switch strings.ToLower(strings.TrimSpace(encoding)) {
	case "", "identity":
		return func(from io.Reader) (io.Reader, error) { return from, nil }
	case "gzip", "x-gzip":
		return func(from io.Reader) (io.Reader, error) { return gzip.NewReader(from) }
	case "deflate":
		return func(from io.Reader) (io.Reader, error) { return zlib.NewReader(from) }
	case "zstd":
		return func(from io.Reader) (io.Reader, error) { return zstd.NewReader(from, zstd.WithDecoderConcurrency(1)) }
	}
	return nil
}

// unpack has what is written go through a decompressor first.
func (a *answer) unpack(how func(io.Reader) (io.Reader, error)) {
	out, in := io.Pipe()
	a.plain, a.read = in, make(chan struct{})
	go func() {
		defer close(a.read)
		from, err := how(out)
		if err == nil {
			_, err = io.Copy(a.stream, from)
		}
		out.CloseWithError(err)
	}()
}

func (a *answer) Write(text []byte) (int, error) {
	if !a.began {
		if a.Header().Get("Content-Type") == "" {
			a.Header().Set("Content-Type", http.DetectContentType(text))
		}
		a.WriteHeader(http.StatusOK)
	}
	switch {
	case a.plain != nil:
		return a.plain.Write(text)
	case a.stream != nil:
		return a.stream.Write(text)
	}
	return a.ResponseWriter.Write(text)
}

var bodyEnd = []byte("</body>")

// written takes what was led. The end of a page is kept until it is known where the script goes.
func (a *answer) written(text []byte) (int, error) {
	if !a.page {
		return a.ResponseWriter.Write(text)
	}
	a.tail = append(a.tail, text...)
	at := bytes.LastIndex(a.tail, bodyEnd)
	if at < 0 {
		at = max(0, len(a.tail)-len(bodyEnd))
	}
	_, err := a.ResponseWriter.Write(a.tail[:at])
	a.tail = append(a.tail[:0], a.tail[at:]...)
	return len(text), err
}

// close ends the answer.
func (a *answer) close() {
	if !a.began {
		a.WriteHeader(http.StatusOK)
	}
	if a.plain != nil {
		a.plain.Close()
		<-a.read
	}
	if a.stream != nil {
		a.stream.Close()
	}
	if a.page {
		rest, end := a.tail, []byte(nil)
		if bytes.HasPrefix(rest, bodyEnd) {
			rest, end = nil, a.tail
		}
		a.ResponseWriter.Write(slices.Concat(rest, []byte(a.script), end))
	}
}

type writerFunc func(text []byte) (int, error)

func (w writerFunc) Write(text []byte) (int, error) { return w(text) }
