// Package page says in words what is the matter, in the place of a page of a site: to visitors, and to guests.
package page

import (
	"bytes"
	_ "embed"
	"html/template"
	"net/http"
)

// Page is what is said. Whatever is empty is left out.
type Page struct {
	Title, Words            string
	Reason, Remedy, Command string
	Foot                    string // who says it
	Again                   int    // seconds after which it is asked for again
	Door                    string // where a password is posted to, which is asked for
	To                      string // where to go on then
	Alone                   bool   // no page may show it in a frame
}

//go:embed page.html
var text string

var templates = template.Must(template.New("page").Parse(text))

// Write answers with a page.
func Write(w http.ResponseWriter, status int, p Page) {
	var out bytes.Buffer
	if err := templates.Execute(&out, p); err != nil {
		http.Error(w, p.Title, status)
		return
	}
	head := w.Header()
	head.Set("Content-Type", "text/html; charset=utf-8")
	head.Set("Cache-Control", "no-store")
	policy := "default-src 'none'; style-src 'unsafe-inline'"
	if p.Alone {
		head.Set("Referrer-Policy", "no-referrer")
		policy += "; form-action 'self'; frame-ancestors 'none'"
	}
	head.Set("Content-Security-Policy", policy)
	w.WriteHeader(status)
	w.Write(out.Bytes())
}
