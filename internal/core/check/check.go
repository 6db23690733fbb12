// Package check says what is verified of a site, and turns outcomes into verdicts and reports.
package check

import (
	"cmp"
	"encoding/xml"
	"fmt"
	"io"
	"slices"
	"strings"
	"text/tabwriter"
)

// Agent is how the checks' requests call themselves (RFC 9110, section 10.1.5).
const Agent = "Vessik-check"

// ID names a check.
type ID string

// Definition says what one check is about.
type Definition struct {
	ID    ID     `json:"id"`
	Title string `json:"title" doc:"In words"`
	Group string `json:"group" doc:"What it proves, together with others"`
}

// Verdict is a check's outcome.
type Verdict string

const (
	Pass Verdict = "pass"
	Fail Verdict = "fail"
	Skip Verdict = "skip"
)

// Result is one check's evidence.
type Result struct {
	ID           ID      `json:"id"`
	Title        string  `json:"title"`
	Verdict      Verdict `json:"verdict" enum:"pass,fail,skip"`
	Expected     string  `json:"expected"`
	Observed     string  `json:"observed"`
	Remedy       string  `json:"remedy" doc:"What to do; empty unless the check failed"`
	Milliseconds int64   `json:"milliseconds"`
}

// SiteReport is all checks of one site. Passed is nil where nothing was checked.
type SiteReport struct {
	Site   string   `json:"site"`
	Stage  string   `json:"stage,omitempty" enum:"before,after,back" doc:"Of a change: on what the site was asked"`
	Passed *bool    `json:"passed" doc:"null when the site is stopped and nothing was checked"`
	Checks []Result `json:"checks" nullable:"false"`
}

// Report is that of one or many sites.
type Report struct {
	Passed bool         `json:"passed" doc:"No check failed"`
	Sites  []SiteReport `json:"sites" nullable:"false"`
}

// Of sums up one site's results, which are in the strip's order.
func Of(site string, results []Result) SiteReport {
	report := SiteReport{Site: site, Checks: results}
	asked, passed := false, true
	for _, r := range results {
		asked = asked || r.Verdict != Skip
		passed = passed && r.Verdict != Fail
	}
	if asked {
		report.Passed = &passed
	}
	return report
}

// Skipped is the report of a site that cannot be asked, and why.
func Skipped(site, reason string, all []Definition) SiteReport {
	results := []Result{}
	for _, each := range all {
		results = append(results, Result{ID: each.ID, Title: each.Title, Verdict: Skip, Observed: reason})
	}
	return Of(site, results)
}

// Together makes one report of many sites.
func Together(sites []SiteReport) Report {
	report := Report{Passed: true, Sites: sites}
	for _, s := range sites {
		report.Passed = report.Passed && (s.Passed == nil || *s.Passed)
	}
	return report
}

// Worse lists the checks that passed in one report and fail in another.
func Worse(before, after SiteReport) []ID {
	worse := []ID{}
	for _, b := range before.Checks {
		for _, a := range after.Checks {
			if a.ID == b.ID && b.Verdict == Pass && a.Verdict == Fail {
				worse = append(worse, a.ID)
			}
		}
	}
	return worse
}

// Result returns one check's evidence.
func (r SiteReport) Result(id ID) Result {
	for _, c := range r.Checks {
		if c.ID == id {
			return c
		}
	}
	return Result{ID: id, Title: string(id), Verdict: Skip}
}

// Summary says a report in a few words: "11 of 11 checks", "failed: assets, sign-in", "not checked".
func (r SiteReport) Summary() string {
	failed, passed, skipped := []string{}, 0, 0
	for _, c := range r.Checks {
		switch c.Verdict {
		case Fail:
			failed = append(failed, string(c.ID))
		case Pass:
			passed++
		default:
			skipped++
		}
	}
	switch {
	case len(failed) > 3:
		return fmt.Sprintf("failed: %s and %d more", failed[0], len(failed)-1)
	case len(failed) > 0:
		return "failed: " + strings.Join(failed, ", ")
	case passed == 0:
		return "not checked"
	case skipped > 0:
		return fmt.Sprintf("%d passed, %d skipped", passed, skipped)
	}
	return fmt.Sprintf("%d of %d passed", passed, len(r.Checks))
}

// Verdict is that of the whole report.
func (r SiteReport) Verdict() Verdict {
	switch {
	case r.Passed == nil:
		return Skip
	case *r.Passed:
		return Pass
	}
	return Fail
}

// Unmarked writes verdicts as they are.
func Unmarked(_ Verdict, text string) string { return text }

// WriteTable writes a report for people: sites that did not pass first, with every check and the evidence of those that failed; one that
// passed among others is a line. mark sets verdicts off from the rest.
func WriteTable(w io.Writer, report Report, mark func(Verdict, string) string) error {
	passed := func(s SiteReport) bool { return s.Passed != nil && *s.Passed }
	sites := slices.Clone(report.Sites)
	slices.SortStableFunc(sites, func(a, b SiteReport) int {
		return cmp.Compare(map[bool]int{true: 1}[passed(a)], map[bool]int{true: 1}[passed(b)])
	})
	for i, s := range sites {
		brief := passed(s) && len(sites) > 1
		if i > 0 && !(brief && passed(sites[i-1])) {
			fmt.Fprintln(w)
		}
		fmt.Fprintf(w, "%s  %s\n", s.Site, mark(s.Verdict(), s.Summary()))
		if brief {
			continue
		}
		table := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
		for _, c := range s.Checks {
			fmt.Fprintf(table, "  %s\t%s\t%d ms\t%s\n", mark(c.Verdict, string(c.Verdict)), c.ID, c.Milliseconds, oneLine(c.Observed, 90))
		}
		table.Flush()
		for _, c := range s.Checks {
			if c.Verdict == Fail {
				fmt.Fprintf(w, "\n  %s (%s)\n    expected  %s\n    observed  %s\n    remedy    %s\n", c.Title, c.ID, c.Expected, c.Observed, c.Remedy)
			}
		}
	}
	return nil
}

func oneLine(text string, length int) string {
	text = strings.Join(strings.Fields(text), " ")
	if runes := []rune(text); len(runes) > length {
		return string(runes[:length-1]) + "…"
	}
	return text
}

type junitCase struct {
	Class   string        `xml:"classname,attr"`
	Name    string        `xml:"name,attr"`
	Time    string        `xml:"time,attr"`
	Failure *junitMessage `xml:"failure,omitempty"`
	Skipped *junitMessage `xml:"skipped,omitempty"`
}

type junitMessage struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

type junitSuite struct {
	Name     string      `xml:"name,attr"`
	Tests    int         `xml:"tests,attr"`
	Failures int         `xml:"failures,attr"`
	Skipped  int         `xml:"skipped,attr"`
	Time     string      `xml:"time,attr"`
	Cases    []junitCase `xml:"testcase"`
}

// WriteJUnit writes a report in the XML that continuous-integration servers read, a suite a site, a case a check.
func WriteJUnit(w io.Writer, report Report) error {
	suites := struct {
		XMLName xml.Name     `xml:"testsuites"`
		Suites  []junitSuite `xml:"testsuite"`
	}{}
	seconds := func(ms int64) string { return fmt.Sprintf("%.3f", float64(ms)/1000) }
	for _, s := range report.Sites {
		suite := junitSuite{Name: s.Site, Tests: len(s.Checks)}
		total := int64(0)
		for _, c := range s.Checks {
			entry := junitCase{Class: s.Site, Name: string(c.ID), Time: seconds(c.Milliseconds)}
			total += c.Milliseconds
			switch c.Verdict {
			case Pass:
			case Fail:
				suite.Failures++
				entry.Failure = &junitMessage{Message: c.Observed,
					Text: "expected: " + c.Expected + "\nobserved: " + c.Observed + "\nremedy: " + c.Remedy}
			case Skip:
				suite.Skipped++
				entry.Skipped = &junitMessage{Message: c.Observed}
			}
			suite.Cases = append(suite.Cases, entry)
		}
		suite.Time = seconds(total)
		suites.Suites = append(suites.Suites, suite)
	}
	io.WriteString(w, xml.Header)
	encoder := xml.NewEncoder(w)
	encoder.Indent("", "  ")
	if err := encoder.Encode(suites); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}
