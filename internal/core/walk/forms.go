package walk

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"vessik/internal/core/check"
)

// Walked is a whole walk.
type Walked struct {
	ID           string       `json:"id,omitempty" doc:"By which it is found again"`
	At           time.Time    `json:"at"`
	URL          string       `json:"url" doc:"Of the site"`
	As           string       `json:"as,omitempty" doc:"The user who was signed in"`
	Pages        []WalkedPage `json:"pages" nullable:"false" doc:"Worst first"`
	Common       []Common     `json:"common" nullable:"false" doc:"Findings of many pages alike, worst first"`
	Files        int          `json:"files"`
	Looked       int          `json:"looked" doc:"Pages that a browser looked at"`
	Cut          bool         `json:"cut,omitempty" doc:"There is more than was walked"`
	Milliseconds int64        `json:"milliseconds"`
	Compared     *Compared    `json:"compared,omitempty"`
}

// Findings are how many there are.
func (w Walked) Findings() (all int) {
	for _, p := range w.Pages {
		all += len(p.Findings)
	}
	return all
}

// Common is what is wrong with many pages alike.
type Common struct {
	Finding PageFinding `json:"finding"`
	Paths   []string    `json:"paths" nullable:"false"`
}

// manyPages is from how many pages on something is common.
const manyPages = 3

// CommonOf is what is wrong with three pages or more alike, the worst first: most often it comes from what they share.
func CommonOf(pages []WalkedPage) []Common {
	paths, all := map[PageFinding][]string{}, []Common{}
	for _, p := range pages {
		for _, f := range p.Findings {
			paths[f] = append(paths[f], p.Path)
		}
	}
	for f, on := range paths {
		if len(on) >= manyPages {
			all = append(all, Common{f, on})
		}
	}
	slices.SortFunc(all, func(a, b Common) int {
		return cmp.Or(slices.Index(Kinds, a.Finding.Kind)-slices.Index(Kinds, b.Finding.Kind), len(b.Paths)-len(a.Paths),
			strings.Compare(a.Finding.Where+a.Finding.Text, b.Finding.Where+b.Finding.Text))
	})
	return all
}

// bad are the kinds that a visitor would complain of.
var bad = []Kind{Fails, PHP, ScriptError, BrokenURL, BrokenRes, RequestFails, Loop}

// Bad tells whether a page fails, names what fails, or has PHP or a script complain.
func (p WalkedPage) Bad() bool {
	return slices.ContainsFunc(p.Findings, func(f PageFinding) bool { return slices.Contains(bad, f.Kind) })
}

// Report is a walk as a report of checks, one a page: what continuous-integration servers are told.
func (w Walked) Report(site string) check.Report {
	results := []check.Result{}
	for _, p := range w.Pages {
		result := check.Result{ID: check.ID(p.Path), Title: p.Title, Verdict: check.Pass, Expected: "a page that is in order",
			Milliseconds: p.Milliseconds}
		if len(p.Findings) > 0 {
			lines := []string{}
			for _, f := range p.Findings {
				lines = append(lines, strings.Join(strings.Fields(fmt.Sprint(f.Kind, " ", f.Where, " ", f.Text)), " "))
			}
			result.Verdict, result.Observed = check.Fail, strings.Join(lines, "\n")
		}
		results = append(results, result)
	}
	return check.Together([]check.SiteReport{check.Of(site, results)})
}
