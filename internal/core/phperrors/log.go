// Package phperrors reads PHP's error log: what PHP complained of where, and for which request.
package phperrors

import (
	"encoding/json"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Kind is how bad PHP finds something.
type Kind string

// Kinds, worst first.
const (
	Error      Kind = "error"
	Warning    Kind = "warning"
	Notice     Kind = "notice"
	Deprecated Kind = "deprecated"
)

// Message is one complaint of PHP.
type Message struct {
	At         time.Time
	Kind       Kind
	Text, File string
	Line       int
	Request    string // method and address; empty where it is not known
}

// How much of a message is kept, in bytes.
const (
	longestText    = 2000
	longestFile    = 500
	longestRequest = 500
)

var (
	entry  = regexp.MustCompile(`(?m)^\[(\d\d-[A-Z][a-z]{2}-\d{4} \d\d:\d\d:\d\d) ([^\]\n]{1,40})\] `)
	spoken = regexp.MustCompile(`^PHP ([A-Z][A-Za-z ]{2,40}):  `)
	placed = regexp.MustCompile(`(?s)^(.*) in (.+?) on line (\d{1,9})\s*$`)
	thrown = regexp.MustCompile(` in \S+:\d+$`) // where an exception is from, which stands at the end as well
)

// request is what runs before a site's scripts adds to the log when a request had something said: RequestMark and this as JSON.
type request struct {
	Method string   `json:"method"`
	URI    string   `json:"uri"`
	Said   []string `json:"said"` // FILE:LINE each
}

// RequestMark begins an entry that names a request.
const RequestMark = "request "

// Read reads whole entries of a log. Entries that are not PHP's own are passed over; now takes the place of a time that cannot be read, or
// lies ahead.
func Read(text string, now time.Time) (messages []Message) {
	begins := entry.FindAllStringSubmatchIndex(text, -1)
	for i, at := range begins {
		end := len(text)
		if i+1 < len(begins) {
			end = begins[i+1][0]
		}
		body := text[at[1]:end]
		if mark, found := strings.CutPrefix(body, RequestMark); found {
			attribute(messages, mark)
			continue
		}
		if m, ok := messageOf(body); ok {
			m.At = timeOf(text[at[2]:at[3]], text[at[4]:at[5]], now)
			messages = append(messages, m)
		}
	}
	return messages
}

// attribute tells messages without a request that they are of this one, where it says so.
func attribute(messages []Message, mark string) {
	r := request{}
	if json.Unmarshal([]byte(mark), &r) != nil {
		return
	}
	said := map[string]bool{}
	for _, place := range r.Said {
		said[place] = true
	}
	for i := range messages {
		m := &messages[i]
		if m.Request == "" && said[m.File+":"+strconv.Itoa(m.Line)] {
			m.Request = cut(strings.Join(strings.Fields(printable(r.Method)+" "+printable(r.URI)), " "), longestRequest)
		}
	}
}

func messageOf(body string) (m Message, ok bool) {
	head := spoken.FindStringSubmatch(body)
	if head == nil {
		return m, false
	}
	parts := placed.FindStringSubmatch(strings.TrimRight(body[len(head[0]):], "\n"))
	if parts == nil {
		return m, false
	}
	line, err := strconv.Atoi(parts[3])
	if err != nil {
		return m, false
	}
	text := strings.TrimSuffix(strings.TrimRight(parts[1], " \n"), "\n  thrown")
	if first, trace, found := strings.Cut(text, "\nStack trace:\n"); found {
		text = thrown.ReplaceAllString(first, "") + "\n" + trace
	}
	file := cut(printable(parts[2]), longestFile)
	return Message{Kind: kindOf(head[1]), Text: cut(printable(text), longestText), File: file, Line: line}, true
}

func kindOf(words string) Kind {
	switch words = strings.ToLower(words); {
	case strings.HasSuffix(words, "error"):
		return Error
	case strings.HasSuffix(words, "warning"):
		return Warning
	case words == "deprecated":
		return Deprecated
	}
	return Notice
}

func timeOf(text, zone string, now time.Time) time.Time {
	place, err := time.LoadLocation(zone)
	if err != nil {
		return now
	}
	at, err := time.ParseInLocation("02-Jan-2006 15:04:05", text, place)
	if err != nil || at.After(now) {
		return now
	}
	return at
}

func cut(text string, most int) string {
	return strings.ToValidUTF8(text[:min(len(text), most)], "")
}

// printable is a text without what moves a terminal's cursor, but for new lines.
func printable(text string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' && r != '\n' && r != '\t' || r == 0x7f || r >= 0x80 && r < 0xa0 {
			return -1
		}
		return r
	}, text)
}
