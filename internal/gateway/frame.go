package gateway

import (
	_ "embed"
	"net/http"
	"net/url"

	"vessik/internal/guest"
)

// framePath is where the script is that has the frames of the console's page of screen sizes scroll together.
const framePath = "/vessik-frame.js"

//go:embed frame.js
var frameScript []byte

// framed puts that script into a page which the console shows in a frame, and into no other.
func (g *Gateway) framed(w http.ResponseWriter, r *http.Request) (framed http.ResponseWriter, end func()) {
	if r.Header.Get("Sec-Fetch-Dest") != "iframe" || !g.fromConsole(r) {
		return w, func() {}
	}
	console, err := url.Parse(g.Console)
	if err != nil {
		return w, func() {}
	}
	return guest.Ending(w, r, `<script src="`+framePath+`" data-console="`+console.Scheme+"://"+console.Host+`"></script>`)
}

// fromConsole tells whether a page of the console asks, as browsers say.
func (g *Gateway) fromConsole(r *http.Request) bool {
	from, err := url.Parse(r.Header.Get("Referer"))
	console, failed := url.Parse(g.Console)
	return err == nil && failed == nil && from.Host != "" && from.Host == console.Host && from.Scheme == console.Scheme
}
