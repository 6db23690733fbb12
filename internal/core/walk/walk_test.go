package walk

import (
	"fmt"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/check"
	"vessik/internal/core/phperrors"
)

func read(t *testing.T, path, page string) Document {
	t.Helper()
	address, err := url.Parse("https://moss.localhost" + path)
	require.NoError(t, err)
	return Read(address, []byte(page))
}

func TestWhatAPageLeadsToIsRead(t *testing.T) {
	d := read(t, "/beds/", `<!doctype html><title>Our  beds
 &amp; paths</title><meta name="Robots" content="max-snippet:-1, NOINDEX"><link rel="canonical" href="/beds/"><link rel=pingback href=/x>
<link rel="stylesheet" href="a.css?v=1"><script src="//cdn.example/x.js"></script><svg><title>not this</title></svg>
<a href="fern#top">f</a><a href="#top">t</a><a href="mailto:x@example.org">m</a><a href="javascript:x()">j</a>
<a href="https://other.example">o</a>
<img src="/i.png" srcset="/i-1.png 1x, /i-2.png 2x"><img src="data:image/png;base64,AAAA" srcset="data:image/png;base64,AAAA 1x">
<form action="https://forms.example/x"></form><form></form><form action="#"></form>`)
	assert.Equal(t, "Our beds & paths", d.Title)
	assert.True(t, d.NoIndex)
	assert.Equal(t, "/beds/", d.Canonical)
	pages, files := []string{}, []string{}
	for _, r := range d.References {
		if r.Page {
			pages = append(pages, r.To.String())
		} else {
			files = append(files, r.To.String())
		}
	}
	assert.Equal(t, []string{"https://moss.localhost/beds/fern", "https://other.example/"}, pages)
	assert.Equal(t, []string{"https://moss.localhost/beds/a.css?v=1", "https://cdn.example/x.js", "https://moss.localhost/i.png",
		"https://moss.localhost/i-1.png", "https://moss.localhost/i-2.png"}, files)
	assert.Equal(t, "https://forms.example/x", d.Forms[0].To.String())
	assert.Len(t, read(t, "/", strings.Repeat(`<a href="/x">`, 3*mostReferences)).References, mostReferences)
}

func TestASitemapListsPagesAndSitemaps(t *testing.T) {
	pages, further := Sitemap([]byte(`<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9"><url><loc>https://a/</loc></url></urlset>`))
	assert.Equal(t, []string{"https://a/"}, pages)
	assert.Empty(t, further)
	_, further = Sitemap([]byte(`<sitemapindex><sitemap><loc>https://a/1.xml</loc></sitemap></sitemapindex>`))
	assert.Equal(t, []string{"https://a/1.xml"}, further)
	pages, _ = Sitemap([]byte("no XML"))
	assert.Empty(t, pages)
}

func TestEachFaultIsFoundOnce(t *testing.T) {
	pages := map[string]string{
		"/": `<title>Moss</title><a href=/a><a href=/gone><a href=/gone><a href=/chain><a href=/loop><a href=/broken><img src=/no.png>
			<img src=/a><iframe src=/a></iframe>
			<script src="http://cdn.example/x.js"></script><a href="http://other.example/">`,
		"/a":     `<title>Same</title><link rel=canonical href=/a><form action="https://forms.example/"></form>`,
		"/b":     `<title>Same</title><meta name=robots content=noindex>`,
		"/slow":  `<title>Slow</title><form action="/a"></form>`,
		"/blank": `<p>`,
	}
	answers := map[string]Answer{"/gone": {Path: "/gone", Status: 404}, "/no.png": {Path: "/no.png", Status: 403},
		"/chain":  {Path: "/chain", Status: 200, Through: []string{"/c2", "/a"}, Page: true},
		"/loop":   {Path: "/loop", Status: 302, Through: []string{"/l2", "/loop"}, Loop: true},
		"/away":   {Path: "/away", Status: 302, Through: []string{"https://other.example/"}, Away: true},
		"/broken": {Path: "/broken", Status: 500, Page: true}, "/old": {Path: "/old", Status: 410}, "/silent": {Path: "/silent", Fault: "EOF"}}
	for path, text := range pages {
		a := Answer{Path: path, Status: 200, HTML: true, Page: true, Document: read(t, path, text), Milliseconds: 10}
		if path == "/slow" {
			a.Milliseconds = 900
		}
		answers[path] = a
	}
	site := Site{Own: func(u *url.URL) bool { return u.Host == "moss.localhost" }, HTTPS: true, Listed: true, Slow: 500, Answers: answers,
		Said: []phperrors.Message{{Kind: phperrors.Warning, Text: "moss\n#0", File: "x.php", Line: 3, Request: "GET /b"}, {Request: "POST /a"}}}
	found := []string{}
	for _, p := range site.Judge() {
		for _, f := range p.Findings {
			found = append(found, fmt.Sprintf("%s %s %s", p.Path, f.Kind, strings.TrimSpace(f.Where+" "+f.Text)))
		}
	}
	assert.Equal(t, []string{
		"/broken fails answers 500",
		"/old fails answers 410",
		"/silent fails EOF",
		"/b php x.php:3 warning: moss",
		"/b same-title <title> Same is that of /a",
		"/b not-indexed <meta name=robots> asks search engines to leave it out",
		"/ broken-link <a href> /gone answers 404",
		"/ broken-link <a href> /broken answers 500",
		"/ broken-file <img src> /no.png answers 403",
		"/ broken-file <img src> /a answers a page in the place of a file",
		"/ redirect-loop <a href> /loop leads back to itself: /l2 → /loop",
		"/ plain-http <script src> http://cdn.example/x.js is loaded without https",
		"/ redirect-chain <a href> /chain leads on 2 times: /c2 → /a",
		"/a form-elsewhere <form action> https://forms.example/ sends what is written to forms.example",
		"/a same-title <title> Same is that of /b",
		"/slow slow took 900 ms",
		"/blank no-title <title> is missing, or empty",
	}, found)
	xml := strings.Builder{}
	require.NoError(t, check.WriteJUnit(&xml, Walked{Pages: site.Judge()}.Report("moss")))
	assert.Contains(t, xml.String(), `<testsuite name="moss" tests="8" failures="8"`)
}
