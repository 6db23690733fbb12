package guest

import (
	"bytes"
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

	"vessik/internal/core/rewrite"
)

const (
	mostLed     = 16 << 20  // bytes of a form or of JSON that are led in memory; what is longer goes as it is
	mostSpooled = 512 << 20 // bytes of a form with files
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
	cookies := r.Cookies()
	r.Header.Del("Cookie")
	for _, cookie := range cookies {
		if cookie.Name != cookieName {
			r.AddCookie(cookie)
		}
	}
	r.URL.RawQuery = lead(by.in, r.URL.RawQuery)
	r.RequestURI = ""
}

// body leads what a request brings. Its length is told, since not every web server hands on what has none.
func (g *Guests) body(r *http.Request, by ways) (body io.ReadCloser, done func(), err error) {
	done = func() {}
	if r.Body == nil || r.Body == http.NoBody || r.Header.Get("Content-Encoding") != "" {
		return r.Body, done, nil
	}
	kind, parameters, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	switch {
	case err == nil && kind == "multipart/form-data" && parameters["boundary"] != "":
		return g.form(r, by, parameters["boundary"])
	case err == nil && kind != "application/x-www-form-urlencoded" && !isText(kind):
		return r.Body, done, nil
	}
	text, err := io.ReadAll(io.LimitReader(r.Body, mostLed+1))
	if err != nil {
		return nil, done, err
	}
	if len(text) > mostLed {
		return io.NopCloser(io.MultiReader(bytes.NewReader(text), r.Body)), done, nil
	}
	led := lead(by.in, string(text))
	r.ContentLength = int64(len(led))
	r.TransferEncoding = nil
	return io.NopCloser(strings.NewReader(led)), done, nil
}

// form leads the fields of a form with files, and leaves the files alone.
func (g *Guests) form(r *http.Request, by ways, boundary string) (body io.ReadCloser, done func(), err error) {
	file, err := os.CreateTemp(g.Host.Spool(), "guest-*")
	if err != nil {
		return nil, func() {}, err
	}
	done = func() { file.Close() }
	if err := os.Remove(file.Name()); err != nil { // it lasts as long as it is open
		done()
		return nil, func() {}, err
	}
	length, err := leadForm(file, http.MaxBytesReader(nil, r.Body, mostSpooled), by.in, boundary)
	if err == nil {
		_, err = file.Seek(0, io.SeekStart)
	}
	if err != nil {
		done()
		return nil, func() {}, err
	}
	r.ContentLength, r.TransferEncoding = length, nil
	return io.NopCloser(file), done, nil
}

func leadForm(to io.Writer, from io.Reader, by []*rewrite.Rewriter, boundary string) (length int64, err error) {
	counted := &counter{to: to}
	in, out := multipart.NewReader(from, boundary), multipart.NewWriter(counted)
	if err := out.SetBoundary(boundary); err != nil {
		return 0, err
	}
	for {
		part, err := in.NextRawPart()
		if errors.Is(err, io.EOF) {
			err = out.Close()
			return counted.bytes, err
		}
		if err != nil {
			return 0, fmt.Errorf("a form that is cut off: %w", err)
		}
		written, err := out.CreatePart(part.Header)
		if err != nil {
			return 0, err
		}
		if part.FileName() != "" {
			_, err = io.Copy(written, part)
		} else {
			stream := rewrite.NewStream(written, by...)
			_, err = io.Copy(stream, part)
			err = errors.Join(err, stream.Close())
		}
		if err != nil {
			return 0, err
		}
	}
}

type counter struct {
	to    io.Writer
	bytes int64
}

func (c *counter) Write(text []byte) (int, error) {
	n, err := c.to.Write(text)
	c.bytes += int64(n)
	return n, err
}
