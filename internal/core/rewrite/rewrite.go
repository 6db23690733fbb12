// Package rewrite changes a site's address inside a CMS's data: in plain text, HTML and JSON, percent-encoded, and in PHP's serialised
// values, whose string lengths (in bytes) it mends, at any depth, also in strings that hold serialised values themselves. It goes
// through a dump once, and leaves alone what it does not understand.
package rewrite

import (
	"fmt"
	"net/url"
	"regexp"
	"strconv"
	"strings"
)

// address is a base address in its parts.
type address struct{ scheme, host, port string }

func parse(base string) address {
	u, err := url.Parse(base)
	if err != nil {
		return address{host: base}
	}
	return address{u.Scheme, u.Hostname(), u.Port()}
}

// hostPort is how a stored domain names it.
func (a address) hostPort() string {
	if a.port == "" {
		return a.host
	}
	return a.host + ":" + a.port
}

// Rewriter leads from one base address to another, and keeps count. It is for one goroutine.
type Rewriter struct {
	from, to address
	table    string // of the statement in hand
	report   Report
}

// New prepares a rewriter between two base addresses, such as http://orchard-days.localhost:20080; what follows the host is not
// looked at.
func New(from, to string) *Rewriter {
	return &Rewriter{from: parse(from), to: parse(to), report: Report{Tables: map[string]Count{}, Left: []Left{}}}
}

// Report is what a rewriter has done so far.
type Report struct {
	Tables    map[string]Count `json:"tables"`
	Left      []Left           `json:"left" nullable:"false" doc:"Values that hold the address and were left alone; the first 100 of them"`
	LeftCount int              `json:"left_count"`
}

// Count is what was changed in one table.
type Count struct {
	Values    int `json:"values"`
	Addresses int `json:"addresses"`
}

// Left is one value that was left alone.
type Left struct {
	Table   string `json:"table"`
	Why     string `json:"why"`
	Excerpt string `json:"excerpt"`
}

// Report returns the counts so far.
func (r *Rewriter) Report() Report { return r.report }

// String tells the counts in one line.
func (r Report) String() string {
	values, addresses := 0, 0
	for _, c := range r.Tables {
		values, addresses = values+c.Values, addresses+c.Addresses
	}
	text := fmt.Sprintf("%d addresses in %d values of %d tables", addresses, values, len(r.Tables))
	if r.LeftCount > 0 {
		text += fmt.Sprintf("; %d values left alone", r.LeftCount)
	}
	return text
}

func (r *Rewriter) leave(why, value string) {
	if r.report.LeftCount++; len(r.report.Left) < 100 {
		at := strings.Index(value, r.from.host)
		excerpt := strings.ToValidUTF8(value[max(0, at-40):min(len(value), at+len(r.from.host)+40)], "")
		r.report.Left = append(r.report.Left, Left{r.table, why, excerpt})
	}
}

// Value rewrites one stored value.
func (r *Rewriter) Value(value string) string {
	if !strings.Contains(value, r.from.host) {
		return value
	}
	before := r.report.Tables[r.table]
	rewritten := r.value(value)
	if after := r.report.Tables[r.table]; after.Addresses > before.Addresses {
		after.Values++
		r.report.Tables[r.table] = after
	}
	return rewritten
}

// looksSerialised begins as one of PHP's serialised values that hold others or texts.
var looksSerialised = regexp.MustCompile(`^(?:[aC]:\d+:|[OC]:\d+:"|[sSE]:\d+:")`)

func (r *Rewriter) value(value string) string {
	if !strings.Contains(value, r.from.host) {
		return value
	}
	if value == r.from.hostPort() { // a stored domain
		r.count(1)
		return r.to.hostPort()
	}
	if looksSerialised.MatchString(value) {
		before := r.report.Tables[r.table]
		if rewritten, rest, ok := r.serialised(value); ok && rest == "" {
			return rewritten
		}
		if before.Addresses == 0 && before.Values == 0 {
			delete(r.report.Tables, r.table)
		} else {
			r.report.Tables[r.table] = before
		}
		r.leave("a damaged serialised value", value)
		return value
	}
	return r.text(value)
}

func (r *Rewriter) count(addresses int) {
	c := r.report.Tables[r.table]
	c.Addresses += addresses
	r.report.Tables[r.table] = c
}

// text replaces addresses in plain text, keeping the way in which each is written.
func (r *Rewriter) text(text string) string {
	var out strings.Builder
	done, search, replaced, strange := 0, 0, 0, false
	for {
		at := strings.Index(text[search:], r.from.host)
		if at < 0 {
			break
		}
		at += search
		search = at + len(r.from.host)
		from, to, written, ok := r.occurrence(text, at)
		if !ok {
			strange = true
			continue
		}
		out.WriteString(text[done:from])
		out.WriteString(written)
		done, search = to, to
		replaced++
	}
	if strange {
		r.leave("not an address of the site", text)
	}
	if replaced == 0 {
		return text
	}
	r.count(replaced)
	out.WriteString(text[done:])
	return out.String()
}

// occurrence judges one place where the host's name stands: from where to where the address goes, and what takes its place.
func (r *Rewriter) occurrence(text string, at int) (from, to int, written string, ok bool) {
	slashes, colon := separator(text[:at])
	if slashes == 0 {
		return 0, 0, "", false
	}
	from = at - slashes
	scheme := ""
	if before, found := strings.CutSuffix(text[:from], colon); found {
		switch {
		case strings.HasSuffix(before, "https"):
			scheme = "https"
		case strings.HasSuffix(before, "http"):
			scheme = "http"
		default:
			return 0, 0, "", false
		}
		if rest := before[:len(before)-len(scheme)]; rest != "" && isLetter(rest[len(rest)-1]) {
			return 0, 0, "", false
		}
		from -= len(colon) + len(scheme)
	} else if from > 0 && (isName(text[from-1]) || text[from-1] == '/' || text[from-1] == ':' || text[from-1] == '%') {
		return 0, 0, "", false
	}
	to = at + len(r.from.host)
	rest := text[to:]
	if r.from.port != "" {
		if !strings.HasPrefix(rest, colon+r.from.port) {
			return 0, 0, "", false
		}
		to += len(colon) + len(r.from.port)
		rest = text[to:]
	} else if after, found := strings.CutPrefix(rest, colon); found && after != "" && after[0] >= '0' && after[0] <= '9' {
		return 0, 0, "", false
	}
	if rest != "" && (isName(rest[0]) && rest[0] != '.' && rest[0] != '%' || rest[0] == '@' || rest[0] == '.' && len(rest) > 1 && isName(rest[1]) && rest[1] != '.') ||
		strings.HasPrefix(rest, "%40") || strings.HasPrefix(rest, "%2E") {
		return 0, 0, "", false
	}
	if scheme != "" {
		written = r.to.scheme + colon
	}
	written += text[at-slashes:at] + r.to.host
	if r.to.port != "" {
		written += colon + r.to.port
	}
	return from, to, written, true
}

// separator is the length of the two slashes at the end of a text, however they are written, and how a colon is written with them.
func separator(text string) (length int, colon string) {
	for _, encoded := range []struct{ slash, colon string }{{"%2F", "%3A"}, {"%2f", "%3a"}, {"%252F", "%253A"}, {"%252f", "%253a"}} {
		if strings.HasSuffix(text, encoded.slash+encoded.slash) {
			return 2 * len(encoded.slash), encoded.colon
		}
	}
	end := len(text)
	for range 2 {
		if end == 0 || text[end-1] != '/' {
			return 0, ""
		}
		for end--; end > 0 && text[end-1] == '\\'; {
			end--
		}
	}
	return len(text) - end, ":"
}

func isLetter(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }

// isName tells whether a byte may stand in a host's name.
func isName(c byte) bool {
	return isLetter(c) || c >= '0' && c <= '9' || c == '-' || c == '_' || c == '.' || c >= 0x80
}

// serialised rewrites one value in PHP's serialize() format (https://www.php.net/manual/en/function.serialize.php) at the start of
// the text; ok is false where the text is not one.
func (r *Rewriter) serialised(text string) (rewritten, rest string, ok bool) {
	if len(text) < 2 {
		return "", "", false
	}
	switch text[0] {
	case 'N':
		return cutAfter(text, "N;")
	case 'b', 'i', 'd', 'r', 'R':
		end := strings.IndexByte(text, ';')
		if text[1] != ':' || end < 3 || strings.ContainsAny(text[2:end], "{}\"") {
			return "", "", false
		}
		return text[:end+1], text[end+1:], true
	case 's', 'E':
		body, rest, ok := quoted(text[1:], ";")
		if !ok {
			return "", "", false
		}
		if text[0] == 's' {
			body = r.value(body)
		}
		return text[:1] + ":" + strconv.Itoa(len(body)) + `:"` + body + `";`, rest, true
	case 'a':
		return r.items("a", text[1:])
	case 'O':
		class, rest, ok := quoted(text[1:], "")
		if !ok {
			return "", "", false
		}
		return r.items("O:"+strconv.Itoa(len(class))+`:"`+class+`"`, rest)
	case 'C': // an object with its own format inside: left as it is
		class, rest, ok := quoted(text[1:], "")
		if !ok {
			return "", "", false
		}
		length, rest, ok := number(rest)
		if !ok || len(rest) < length+2 || rest[0] != '{' || rest[length+1] != '}' {
			return "", "", false
		}
		if strings.Contains(rest[:length+2], r.from.host) {
			r.leave("an object with a format of its own", rest[:length+2])
		}
		return "C:" + strconv.Itoa(len(class)) + `:"` + class + `":` + strconv.Itoa(length) + ":" + rest[:length+2], rest[length+2:], true
	}
	return "", "", false
}

// items rewrites :COUNT:{…}, the keys and values of an array or object.
func (r *Rewriter) items(head, text string) (rewritten, rest string, ok bool) {
	count, rest, ok := number(text)
	if !ok || !strings.HasPrefix(rest, "{") {
		return "", "", false
	}
	var out strings.Builder
	out.WriteString(head + ":" + strconv.Itoa(count) + ":{")
	rest = rest[1:]
	for range 2 * count {
		var item string
		if item, rest, ok = r.serialised(rest); !ok {
			return "", "", false
		}
		out.WriteString(item)
	}
	if !strings.HasPrefix(rest, "}") {
		return "", "", false
	}
	out.WriteByte('}')
	return out.String(), rest[1:], true
}

// number reads :N: and returns N.
func number(text string) (n int, rest string, ok bool) {
	if !strings.HasPrefix(text, ":") {
		return 0, "", false
	}
	end := strings.IndexByte(text[1:], ':')
	if end < 1 {
		return 0, "", false
	}
	n, err := strconv.Atoi(text[1 : end+1])
	return n, text[end+2:], err == nil && n >= 0 && n <= len(text)
}

// quoted reads :N:"…" followed by the end mark.
func quoted(text, end string) (body, rest string, ok bool) {
	length, rest, ok := number(text)
	if !ok || len(rest) < length+2+len(end) || rest[0] != '"' || rest[length+1] != '"' || !strings.HasPrefix(rest[length+2:], end) {
		return "", "", false
	}
	return rest[1 : length+1], rest[length+2+len(end):], true
}

func cutAfter(text, prefix string) (string, string, bool) {
	rest, ok := strings.CutPrefix(text, prefix)
	return prefix, rest, ok
}
