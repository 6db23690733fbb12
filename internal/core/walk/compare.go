package walk

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"
)

// Change is what became of a page between two walks.
type Change string

// Changes, worst first.
const (
	Found   Change = "found"   // something is wrong that was not
	Gone    Change = "gone"    // the page is not there any more
	Slower  Change = "slower"  // it takes longer than is borne, or did not before
	Retitle Change = "title"   // its title is another one
	New     Change = "new"     // the page was not there
	Mended  Change = "mended"  // something is wrong no more
	Quicker Change = "quicker" // it was slow, and is not any more
)

var changes = []Change{Found, Gone, Slower, Retitle, New, Mended, Quicker}

// Difference is one thing in which a page is another one than before.
type Difference struct {
	Path   string `json:"path"`
	Change Change `json:"change" enum:"found,gone,slower,title,new,mended,quicker"`
	Text   string `json:"text"`
}

// Worse tells whether the page is worse off; time is not judged, since it depends on what else the machine does.
func (d Difference) Worse() bool { return d.Change == Found || d.Change == Gone }

// Compared is what another walk, a site or an address had otherwise.
type Compared struct {
	With        string       `json:"with"`
	At          time.Time    `json:"at"`
	Pages       int          `json:"pages" doc:"That were compared"`
	Differences []Difference `json:"differences" nullable:"false" doc:"What is worse first"`
}

// Worse are those by which the pages are worse off.
func (c Compared) Worse() []Difference {
	return slices.DeleteFunc(slices.Clone(c.Differences), func(d Difference) bool { return !d.Worse() })
}

// Worst are some differences in words.
func Worst(all []Difference) string {
	const shown = 3
	words := []string{}
	for _, d := range all[:min(len(all), shown)] {
		words = append(words, d.Path+" "+d.Text)
	}
	if len(all) > shown {
		words = append(words, fmt.Sprintf("and %d more", len(all)-shown))
	}
	return strings.Join(words, "; ")
}

// Compare compares two walks, also of two sites: paths are taken from below the addresses of both. Where coarse is set, before has no more
// than status and title of each page.
func Compare(before, now Walked, coarse bool) []Difference {
	old, all := map[string]WalkedPage{}, []Difference{}
	for _, p := range before.Pages {
		old[Below(before.URL, p.Path)] = p
	}
	known := map[string]bool{}
	for _, p := range now.Pages {
		path := Below(now.URL, p.Path)
		known[path] = true
		was, there := old[path]
		add := func(change Change, text string) { all = append(all, Difference{path, change, text}) }
		switch {
		case !there && len(old) > 0 && !before.Cut:
			add(New, fmt.Sprintf("answers %d", p.Status))
		case there && was.Title != p.Title:
			add(Retitle, fmt.Sprintf("%q, was %q", p.Title, was.Title))
		}
		if coarse {
			was.Findings = slices.DeleteFunc(slices.Clone(p.Findings), func(f PageFinding) bool { return f.Kind == Fails })
		}
		if coarse && there && was.Status >= 400 {
			was.Findings = append(was.Findings, PageFinding{Fails, "", fmt.Sprint("answers ", was.Status)})
		}
		both := was.Looked && p.Looked
		compareFindings(place{before.URL, was.seenBy(both)}, place{now.URL, p.seenBy(both)}, add)
	}
	for path, p := range old {
		if !known[path] && !now.Cut && !coarse && !slices.ContainsFunc(p.Findings, func(f PageFinding) bool { return f.Kind == Fails }) {
			all = append(all, Difference{path, Gone, "was reached, and is not any more"})
		}
	}
	slices.SortFunc(all, func(a, b Difference) int {
		if a.Change != b.Change {
			return slices.Index(changes, a.Change) - slices.Index(changes, b.Change)
		}
		return strings.Compare(a.Path+" "+a.Text, b.Path+" "+b.Text)
	})
	return all
}

// place is what was found on a page of a site.
type place struct {
	url      string
	findings []PageFinding
}

// plain is a finding without the site's address, which another site has in its place.
func (p place) plain(f PageFinding) PageFinding {
	switch f.Kind {
	case Slow: // the time is another one each time
		return PageFinding{Kind: Slow}
	case SameTitle, Unusable: // how many there are besides
		f.Text = ""
	default:
	}
	u, err := url.Parse(p.url)
	if err != nil || u.Host == "" {
		return f
	}
	for _, text := range []*string{&f.Where, &f.Text} {
		*text = strings.ReplaceAll(strings.ReplaceAll(*text, u.Scheme+"://"+u.Host, ""), u.Host, "")
	}
	return f
}

// seenBy are the findings of a page, without those of a browser where it is not for both of two walks that one looked.
func (p WalkedPage) seenBy(both bool) []PageFinding {
	return slices.DeleteFunc(slices.Clone(p.Findings), func(f PageFinding) bool { return !both && slices.Contains(ofBrowsers, f.Kind) })
}

func compareFindings(before, now place, add func(change Change, text string)) {
	only := func(in, other place, slow, usual Change) {
		has := map[PageFinding]bool{}
		for _, f := range other.findings {
			has[other.plain(f)] = true
		}
		for _, f := range in.findings {
			switch {
			case has[in.plain(f)]:
			case f.Kind == Slow:
				add(slow, f.Text)
			default:
				add(usual, strings.Join(strings.Fields(string(f.Kind)+" "+f.Where+" "+f.Text), " "))
			}
		}
	}
	only(now, before, Slower, Found)
	only(before, now, Quicker, Mended)
}

// Below is a path as it stands below a site's address, with a slash.
func Below(site, path string) string {
	u, err := url.Parse(site)
	if err != nil {
		return path
	}
	if rest, inside := strings.CutPrefix(path, strings.TrimSuffix(u.EscapedPath(), "/")+"/"); inside {
		return "/" + rest
	}
	return path
}
