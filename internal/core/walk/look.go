package walk

import (
	"fmt"
	"net/url"
	"strings"
)

// Look is what a browser saw of one page.
type Look struct {
	ScriptErrors []Seen // that no script caught
	Failed       []Seen // requests; Where is the address
	Wide         []Seen // elements that reach beyond the edge of a phone
	Unusable     []Seen // by those who do not see the page, or not well: what axe-core finds
	Pictures     []string
	Fault        string // why there is nothing to be seen
}

// Seen is one thing that a browser saw.
type Seen struct{ Where, Text string }

// Cost is what a slow page asked of others when it was asked again.
type Cost struct {
	Milliseconds int64     `json:"milliseconds" doc:"Of the page when it was asked again"`
	Statements   int64     `json:"statements" doc:"That the database was asked; 0 where that is not known"`
	Rows         int64     `json:"rows" doc:"That the database read for them"`
	Database     int64     `json:"database_milliseconds"`
	Longest      string    `json:"longest,omitempty" doc:"The statement that was seen for the longest time"`
	LongestTook  int64     `json:"longest_milliseconds,omitempty"`
	Machines     []Machine `json:"machines" nullable:"false" doc:"Other machines that were asked"`
}

// Machine is another machine that a page asked.
type Machine struct {
	Host         string `json:"host"`
	Port         int    `json:"port"`
	Count        int64  `json:"count"`
	Refused      int64  `json:"refused"`
	Milliseconds int64  `json:"milliseconds" doc:"Of one connection, on average"`
}

// words say what a page asked of others.
func (c Cost) words() string {
	words := []string{}
	if c.Statements > 0 {
		words = append(words, fmt.Sprintf("the database %d statements in %d ms, which read %d rows", c.Statements, c.Database, c.Rows))
	}
	if c.Longest != "" {
		words = append(words, fmt.Sprintf("for %d ms or longer: %s", c.LongestTook, c.Longest))
	}
	for _, m := range c.Machines {
		if m.Port == 0 {
			words = append(words, fmt.Sprintf("for the name %s %d times", m.Host, m.Count))
			continue
		}
		refused := map[bool]string{true: fmt.Sprintf(", %d refused", m.Refused)}[m.Refused > 0]
		words = append(words, fmt.Sprintf("%s:%d %d times, %d ms each%s", m.Host, m.Port, m.Count, m.Milliseconds, refused))
	}
	if len(words) == 0 {
		return fmt.Sprintf("; again, %d ms, and asked nobody", c.Milliseconds)
	}
	return fmt.Sprintf("; again, %d ms, and asked ", c.Milliseconds) + strings.Join(words, "; ")
}

// seen judges what a browser saw of a page. What the page's own text names, and is broken, was told already.
func (s Site) seen(a Answer, add func(kind Kind, where, text string)) {
	look, looked := s.Looks[a.Path]
	if !looked {
		return
	}
	if look.Fault != "" {
		add(ScriptError, "", look.Fault)
	}
	told := map[string]bool{}
	for _, r := range a.Document.References {
		if s.Own(r.To) {
			told[PathOf(r.To)] = true
		}
	}
	for _, each := range look.ScriptErrors {
		add(ScriptError, each.Where, each.Text)
	}
	for _, each := range look.Failed {
		if to, err := url.Parse(each.Where); err == nil && s.Own(to) && !told[PathOf(to)] {
			add(RequestFails, PathOf(to), each.Text)
		}
	}
	for _, each := range look.Wide {
		add(Wide, each.Where, each.Text)
	}
	for _, each := range look.Unusable {
		add(Unusable, each.Where, each.Text)
	}
}
