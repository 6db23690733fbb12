package guest

import (
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"os"
	"path"
	"slices"
	"strings"
	"sync/atomic"

	"vessik/internal/core/rewrite"
)

// Bounds of what guests send, in bytes.
const (
	mostSpooled      = 512 << 20 // of one request
	mostSpooledByAll = 1 << 30   // of all that are being led
)

// notForAll are headers by which a request says to be of another method, or of somebody.
var notForAll = []string{"X-Http-Method-Override", "X-Http-Method", "X-Method-Override", "Authorization", "Proxy-Authorization", "Cookie"}

// leadRequest leads what a guest's browser says of addresses to those that the site has here, and takes out what is not for the site.
// Where nobody is to sign in, nothing by which the site could know somebody again reaches it.
func leadRequest(r *http.Request, by ways, anonymous bool) {
	for name, values := range r.Header {
		if strings.HasPrefix(name, "X-Vessik") || anonymous && slices.Contains(notForAll, name) {
			delete(r.Header, name)
			continue
		}
		for i := range values {
			values[i] = lead(by.in, values[i])
		}
	}
	r.Header.Del("Accept-Encoding") // what is led must be read
	if isText(mime.TypeByExtension(path.Ext(r.URL.Path))) || path.Ext(r.URL.Path) == "" {
		r.Header.Del("Range")
		r.Header.Del("If-Range")
	}
	withoutOurs(r.Header)
	r.URL.RawQuery = lead(by.in, r.URL.RawQuery)
	r.RequestURI = ""
}

// withoutOurs takes the guest's own session out of what is sent; all else stays as it was written.
func withoutOurs(head http.Header) {
	kept := []string{}
	for _, line := range head.Values("Cookie") {
		for each := range strings.SplitSeq(line, ";") {
			if name, _, _ := strings.Cut(strings.TrimSpace(each), "="); name != "" && name != cookieName {
				kept = append(kept, strings.TrimSpace(each))
			}
		}
	}
	if head.Del("Cookie"); len(kept) > 0 {
		head.Set("Cookie", strings.Join(kept, "; "))
	}
}

// body leads what a request brings. It goes by a file that lasts as long as it is open, for its length must be told: not every web server
// hands on what has none.
func (g *Guests) body(r *http.Request, by ways) (body io.ReadCloser, done func(), err error) {
	done = func() {}
	if r.Body == nil || r.Body == http.NoBody || r.Header.Get("Content-Encoding") != "" {
		return r.Body, done, nil
	}
	kind, parameters, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	isForm := err == nil && kind == "multipart/form-data" && parameters["boundary"] != ""
	if !isForm && err == nil && kind != "application/x-www-form-urlencoded" && !isText(kind) {
		return r.Body, done, nil
	}
	file, err := os.CreateTemp(g.Host.Spool(), "guest-*")
	if err != nil {
		return nil, done, err
	}
	spool := &spool{to: file, of: &g.spooled}
	done = func() {
		file.Close()
		g.spooled.Add(-spool.bytes)
	}
	defer func() {
		if err != nil {
			done()
			done = func() {}
		}
	}()
	if err := os.Remove(file.Name()); err != nil {
		return nil, done, err
	}
	if isForm {
		err = leadForm(spool, r.Body, by.in, parameters["boundary"])
	} else {
		stream := rewrite.NewStream(spool, by.in...)
		_, err = io.Copy(stream, r.Body)
		err = errors.Join(err, stream.Close())
	}
	if err == nil {
		_, err = file.Seek(0, io.SeekStart)
	}
	r.ContentLength, r.TransferEncoding = spool.bytes, nil
	return io.NopCloser(file), done, err
}

// spool is what is led of a request, which all that are led share their room with.
type spool struct {
	to    io.Writer
	of    *atomic.Int64
	bytes int64
}

func (s *spool) Write(text []byte) (int, error) {
	s.bytes += int64(len(text))
	if all := s.of.Add(int64(len(text))); s.bytes > mostSpooled || all > mostSpooledByAll {
		return 0, errors.New("it is too long, or too much is being sent at this moment; try again with less")
	}
	return s.to.Write(text)
}

// leadForm leads the fields of a form with files, and leaves the files alone.
func leadForm(to io.Writer, from io.Reader, by []*rewrite.Rewriter, boundary string) error {
	in, out := multipart.NewReader(from, boundary), multipart.NewWriter(to)
	if err := out.SetBoundary(boundary); err != nil {
		return err
	}
	for {
		part, err := in.NextRawPart()
		if errors.Is(err, io.EOF) {
			return out.Close()
		}
		if err != nil {
			return fmt.Errorf("a form that is cut off: %w", err)
		}
		written, err := out.CreatePart(part.Header)
		if err != nil {
			return err
		}
		if part.FileName() != "" {
			_, err = io.Copy(written, part)
		} else {
			stream := rewrite.NewStream(written, by...)
			_, err = io.Copy(stream, part)
			err = errors.Join(err, stream.Close())
		}
		if err != nil {
			return err
		}
	}
}
