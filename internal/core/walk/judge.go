package walk

import (
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"vessik/internal/core/phperrors"
)

// Kind is what is wrong.
type Kind string

// Kinds, worst first.
const (
	Fails        Kind = "fails"          // the page itself
	PHP          Kind = "php"            // PHP complained while it was made
	ScriptError  Kind = "script-error"   // a script of it ended with an error that nobody caught
	BrokenURL    Kind = "broken-link"    // it leads to what fails
	BrokenRes    Kind = "broken-file"    // it loads what fails: an image, a script, a style sheet
	RequestFails Kind = "request-fails"  // what its scripts and style sheets ask of the site fails
	Loop         Kind = "redirect-loop"  // it leads to what leads back to itself
	Plain        Kind = "plain-http"     // of a site with https, it loads something without
	Elsewhere    Kind = "form-elsewhere" // a form sends what is written to another host
	Chain        Kind = "redirect-chain" // it leads to what leads on more than once
	Slow         Kind = "slow"           // it took longer than is borne
	Wide         Kind = "wide"           // on a phone, it reaches beyond the edge
	NoTitle      Kind = "no-title"       //
	SameTitle    Kind = "same-title"     // another page has it, too
	NotListed    Kind = "not-indexed"    // it asks search engines to leave it out, although the site does not
	Unusable     Kind = "accessibility"  // those who do not see it, or not well, cannot use it (axe-core)
)

// Kinds are all of them, worst first.
var Kinds = []Kind{Fails, PHP, ScriptError, BrokenURL, BrokenRes, RequestFails, Loop, Plain, Elsewhere, Chain, Slow, Wide, NoTitle,
	SameTitle, NotListed, Unusable}

// ofBrowsers are those that nobody sees without one.
var ofBrowsers = []Kind{ScriptError, RequestFails, Wide, Unusable}

// PageFinding is one thing that is wrong with a page.
type PageFinding struct {
	Kind  Kind   `json:"kind"`
	Where string `json:"where" doc:"The element of the page, or the file and its line"`
	Text  string `json:"text"`
}

// WalkedPage is one page, judged.
type WalkedPage struct {
	Path         string        `json:"path"`
	Status       int           `json:"status" doc:"0 where no answer came"`
	Milliseconds int64         `json:"milliseconds" doc:"Until all of it was there"`
	Title        string        `json:"title,omitempty"`
	Findings     []PageFinding `json:"findings" nullable:"false" doc:"Worst first"`
	Looked       bool          `json:"looked,omitempty" doc:"A browser looked at it"`
	Pictures     []string      `json:"pictures,omitempty" doc:"Names of pictures, the widest first"`
	Cost         *Cost         `json:"cost,omitempty" doc:"Of a slow page, what it asked of others"`
}

// Answer is what a path of the site answered, over however many redirects.
type Answer struct {
	Path         string // path and query that were asked for
	Status       int
	Fault        string   // why no answer came; empty where one did
	Through      []string // paths and addresses that it led on to
	Loop         bool
	Away         bool // it led to another host
	Milliseconds int64
	HTML         bool
	Page         bool // HTML, of which Document is known
	Document     Document
}

// fails tells whether nobody can read what was answered.
func (a Answer) fails() bool { return a.Fault != "" || a.Loop || !a.Away && a.Status >= 400 }

func (a Answer) says() string {
	switch {
	case a.Fault != "":
		return a.Fault
	case a.Loop:
		return "leads back to itself: " + strings.Join(a.Through, " → ")
	}
	return fmt.Sprint("answers ", a.Status)
}

// Site is what pages are judged by.
type Site struct {
	Own     func(*url.URL) bool // whether an address is the site's
	HTTPS   bool
	Listed  bool  // search engines may list it
	Slow    int64 // milliseconds that a page may take
	Answers map[string]Answer
	Said    []phperrors.Message
	Looks   map[string]Look // by path
	Costs   map[string]Cost // of slow pages, by path
}

// PathOf is how an address of the site is asked for.
func PathOf(u *url.URL) string {
	path := u.EscapedPath()
	if path == "" {
		path = "/"
	}
	if u.RawQuery != "" {
		path += "?" + u.RawQuery
	}
	return path
}

// Judge judges all pages, the worst first.
func (s Site) Judge() []WalkedPage {
	titles, linked, pages := s.titles(), s.linked(), []WalkedPage{}
	for _, a := range s.Answers {
		gone := a.Fault == "" && (a.Status == http.StatusNotFound || a.Status == http.StatusGone)
		if a.fails() && (linked[a.Path].file || linked[a.Path].page && (gone || a.Loop)) {
			continue // the pages that name it tell of it
		}
		if !a.fails() && (!a.Page || len(a.Through) > 0) || a.Away {
			continue // a page is judged by its own address
		}
		p := WalkedPage{Path: a.Path, Status: a.Status, Milliseconds: a.Milliseconds, Title: a.Document.Title, Findings: []PageFinding{}}
		add := func(kind Kind, where, text string) {
			p.Findings = append(p.Findings, PageFinding{kind, where, text})
		}
		if a.fails() {
			add(Fails, "", a.says())
		}
		for _, m := range s.Said {
			if m.Request == "GET "+a.Path {
				first, _, _ := strings.Cut(m.Text, "\n")
				add(PHP, fmt.Sprintf("%s:%d", m.File, m.Line), string(m.Kind)+": "+first)
			}
		}
		s.references(a, add)
		s.seen(a, add)
		look, looked := s.Looks[a.Path]
		p.Looked, p.Pictures = looked, look.Pictures
		if cost, asked := s.Costs[a.Path]; asked {
			p.Cost = &cost
		}
		if !a.fails() {
			s.words(a, titles, add)
		}
		p.Findings = settled(p.Findings)
		pages = append(pages, p)
	}
	slices.SortFunc(pages, func(a, b WalkedPage) int {
		if a, b := worst(a), worst(b); a != b {
			return a - b
		}
		return strings.Compare(a.Path, b.Path)
	})
	return pages
}

// named is how a path is named by pages.
type named struct{ page, file bool }

// linked are the paths that pages name.
func (s Site) linked() map[string]named {
	all := map[string]named{}
	for _, a := range s.Answers {
		for _, r := range a.Document.References {
			if path := PathOf(r.To); s.Own(r.To) && path != a.Path {
				all[path] = named{page: all[path].page || r.Page, file: all[path].file || !r.Page}
			}
		}
	}
	return all
}

func worst(p WalkedPage) int {
	if len(p.Findings) == 0 {
		return len(Kinds)
	}
	return slices.Index(Kinds, p.Findings[0].Kind)
}

// settled are findings in their order, each once.
func settled(all []PageFinding) []PageFinding {
	slices.SortStableFunc(all, func(a, b PageFinding) int { return slices.Index(Kinds, a.Kind) - slices.Index(Kinds, b.Kind) })
	seen := map[PageFinding]bool{}
	return slices.DeleteFunc(all, func(f PageFinding) bool {
		again := seen[f]
		seen[f] = true
		return again
	})
}

// references judges what a page leads to and loads.
func (s Site) references(a Answer, add func(kind Kind, where, text string)) {
	for _, r := range a.Document.References {
		if s.HTTPS && !r.Page && r.To.Scheme == "http" {
			add(Plain, r.Where, "is loaded without https")
		}
		if !s.Own(r.To) {
			continue
		}
		to, asked := s.Answers[PathOf(r.To)]
		switch {
		case !asked || to.Path == a.Path:
		case to.Loop:
			add(Loop, r.Where, to.says())
		case to.fails() && r.Page:
			add(BrokenURL, r.Where, to.says())
		case to.fails():
			add(BrokenRes, r.Where, to.says())
		case to.HTML && !r.Page && !r.Frame:
			add(BrokenRes, r.Where, "answers a page in the place of a file")
		case len(to.Through) > 1:
			add(Chain, r.Where, "leads on "+fmt.Sprint(len(to.Through))+" times: "+strings.Join(to.Through, " → "))
		}
	}
	for _, form := range a.Document.Forms {
		if !s.Own(form.To) {
			add(Elsewhere, form.Where, "sends what is written to "+form.To.Host)
		}
	}
}

// words judges what a page says of itself.
func (s Site) words(a Answer, titles map[string][]string, add func(kind Kind, where, text string)) {
	cost, asked := s.Costs[a.Path]
	if a.Milliseconds > s.Slow && (!asked || cost.Milliseconds > s.Slow) { // one that is quick once it is asked alone was only waited for
		again := ""
		if asked {
			again = cost.words()
		}
		add(Slow, "", fmt.Sprintf("took %d ms", a.Milliseconds)+again)
	}
	if a.Document.Title == "" {
		add(NoTitle, "<title>", "is missing, or empty")
	} else if same := titles[a.Document.Title]; len(same) > 1 {
		others := slices.DeleteFunc(slices.Clone(same), func(path string) bool { return path == a.Path })
		if len(others) > 0 {
			const shown = 3
			more := ""
			if len(others) > shown {
				more = fmt.Sprintf(" and %d more", len(others)-shown)
			}
			add(SameTitle, "<title> "+a.Document.Title, "is that of "+strings.Join(others[:min(shown, len(others))], ", ")+more)
		}
	}
	if a.Document.NoIndex && s.Listed {
		add(NotListed, "<meta name=robots>", "asks search engines to leave it out")
	}
}

// titles are the pages of each title; those that say that they are one page count once.
func (s Site) titles() map[string][]string {
	titles, known := map[string][]string{}, map[string]bool{}
	for _, a := range s.Answers {
		if !a.Page || a.fails() || a.Away || len(a.Through) > 0 || a.Document.Title == "" {
			continue
		}
		if canonical := a.Document.Canonical; canonical != "" {
			if known[canonical+a.Document.Title] {
				continue
			}
			known[canonical+a.Document.Title] = true
		}
		titles[a.Document.Title] = append(titles[a.Document.Title], a.Path)
	}
	for _, paths := range titles {
		slices.Sort(paths)
	}
	return titles
}
