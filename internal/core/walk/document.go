// Package walk judges the pages of a site, of which somebody else has fetched them all: what a page leads to, and what is wrong with it.
package walk

import (
	"bytes"
	"encoding/xml"
	"net/url"
	"slices"
	"strings"

	"golang.org/x/net/html"
)

// Reference is one place of a page that leads elsewhere.
type Reference struct {
	To    *url.URL
	Where string // as it stands in the page, shortened: <a href> "Our beds"
	Page  bool   // whoever reads may follow it; else it is loaded with the page
	Frame bool   // what is loaded may be a page
}

// Document is what is known of one page's text.
type Document struct {
	Title      string
	Canonical  string // the address that it says it has
	NoIndex    bool   // it asks search engines to leave it out
	References []Reference
	Forms      []Reference // where forms send what is written in them
}

// loads are the attributes of elements by which a page loads something.
var loads = map[string][]string{"img": {"src", "srcset"}, "script": {"src"}, "iframe": {"src"}, "source": {"src", "srcset"},
	"video": {"src", "poster"}, "audio": {"src"}, "embed": {"src"}, "object": {"data"}}

// frames are the elements among them that may load pages.
var frames = []string{"iframe", "embed", "object"}

// loading are the relations of link elements that load something.
var loading = []string{"stylesheet", "icon", "preload", "modulepreload", "manifest"}

// Read reads a page that came from an address.
func Read(address *url.URL, page []byte) Document {
	d, base := Document{}, address
	tokens := html.NewTokenizer(bytes.NewReader(page))
	for inside, text := "", (*string)(nil); ; {
		switch tokens.Next() {
		case html.ErrorToken:
			d.Title = shortened(strings.Join(strings.Fields(d.Title), " "))
			return d
		case html.TextToken:
			if text != nil {
				*text += string(tokens.Text())
			}
		case html.EndTagToken:
			if name, _ := tokens.TagName(); string(name) == inside {
				text = nil
			}
		case html.StartTagToken, html.SelfClosingTagToken:
			token := tokens.Token()
			if token.Data == "title" && d.Title == "" {
				inside, text = "title", &d.Title
			}
			base = d.element(token, base)
		default: // comments
		}
	}
}

// element notes what one element says, and returns the base of what follows.
func (d *Document) element(token html.Token, base *url.URL) *url.URL {
	values := map[string]string{}
	for _, each := range token.Attr {
		values[each.Key] = strings.TrimSpace(each.Val)
	}
	switch token.Data {
	case "base":
		if next, err := base.Parse(values["href"]); err == nil && values["href"] != "" {
			return next
		}
	case "meta":
		if strings.EqualFold(values["name"], "robots") && strings.Contains(strings.ToLower(values["content"]), "noindex") {
			d.NoIndex = true
		}
	case "a", "area":
		d.add(base, token.Data, "href", values["href"], true)
	case "form":
		if to, err := base.Parse(values["action"]); err == nil && values["action"] != "" && isWeb(to) {
			d.Forms = append(d.Forms, Reference{To: to, Where: where("form", "action", values["action"])})
		}
	case "link":
		rel := strings.Fields(strings.ToLower(values["rel"]))
		if slices.Contains(rel, "canonical") {
			d.Canonical = values["href"][:min(len(values["href"]), longestAddress)]
		}
		if slices.ContainsFunc(rel, func(each string) bool { return slices.Contains(loading, each) }) {
			d.add(base, "link", "href", values["href"], false)
		}
	}
	for _, name := range loads[token.Data] {
		if name != "srcset" {
			d.add(base, token.Data, name, values[name], false)
			continue
		}
		for part := range strings.SplitSeq(values[name], ",") {
			first, _, _ := strings.Cut(strings.TrimSpace(part), " ")
			if !strings.Contains(values[name], "data:") { // which has commas of its own
				d.add(base, token.Data, name, first, false)
			}
		}
	}
	return base
}

func (d *Document) add(base *url.URL, element, attribute, value string, page bool) {
	if value == "" || strings.HasPrefix(value, "#") || len(value) > longestAddress || len(d.References) >= mostReferences {
		return
	}
	to, err := base.Parse(value)
	if err != nil || !isWeb(to) {
		return
	}
	to.Fragment = ""
	if to.Path == "" {
		to.Path = "/"
	}
	d.References = append(d.References, Reference{To: to, Where: where(element, attribute, value), Page: page,
		Frame: slices.Contains(frames, element)})
}

func isWeb(u *url.URL) bool { return (u.Scheme == "http" || u.Scheme == "https") && u.Host != "" }

// mostReferences is how many are looked at of one page, longestAddress how long one may be, in bytes.
const (
	mostReferences = 2000
	longestAddress = 1000
)

// longest is how much of a value is shown, in characters.
const longest = 120

func where(element, attribute, value string) string {
	return "<" + element + " " + attribute + "> " + shortened(value)
}

func shortened(text string) string {
	if runes := []rune(text); len(runes) > longest {
		return string(runes[:longest]) + "…"
	}
	return text
}

// Sitemap are the addresses that a sitemap lists (https://www.sitemaps.org/protocol.html): pages, or further sitemaps.
func Sitemap(text []byte) (pages, sitemaps []string) {
	var found struct {
		Pages    []string `xml:"url>loc"`
		Sitemaps []string `xml:"sitemap>loc"`
	}
	if xml.Unmarshal(text, &found) != nil {
		return nil, nil
	}
	return found.Pages, found.Sitemaps
}
