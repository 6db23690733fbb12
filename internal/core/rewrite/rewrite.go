// Package rewrite changes a site's address inside a CMS's data: in plain text, HTML and JSON, percent-encoded, and in PHP's serialised
// values, whose string lengths (in bytes) it mends, at any depth, also in strings that hold serialised values themselves. It goes
// through a dump once, and leaves alone what it does not understand.
package rewrite

import (
	"net/url"
	"strconv"
	"strings"
)

// address is a base address in its parts; hostPort is how a stored domain names it.
type address struct{ scheme, host, port, hostPort string }

func parse(base string) address {
	u, err := url.Parse(base)
	if err != nil {
		return address{host: base, hostPort: base}
	}
	a := address{u.Scheme, u.Hostname(), u.Port(), u.Hostname()}
	if a.port != "" {
		a.hostPort += ":" + a.port
	}
	return a
}

// Rewriter leads from one base address to another, and keeps count. It is for one goroutine.
type Rewriter struct {
	// SubDomains has the sub-domains of the old host follow: north.orchard-days.localhost becomes north.apple-days.localhost.
	SubDomains bool

	from, to address
	still    bool     // the address stays, or none is known
	folders  *folders // nil where no folder is moved
	needles  []string // texts of which one stands in every value that is of interest: the host's name
	further  []string // and more, looked for in texts in which extra finds something
	encoded  []string // parts of the address in base64
	extra    *finder
	forms    []form     // of a text that is replaced, where it is no address: as it is, then as JSON has it
	others   bool       // in the text in hand
	table    string     // of the statement in hand
	counted  TableCount // for the value in hand
	escaped  bool       // the text in hand is written with SQL's escapes
	report   Tally
}

// New prepares a rewriter between two base addresses, such as http://orchard-days.localhost:20080; what follows the host is not
// looked at.
func New(from, to string) *Rewriter {
	r := &Rewriter{from: parse(from), to: parse(to), report: Tally{Tables: map[string]TableCount{}, Left: []Left{}}}
	if r.still = from == to || r.from.host == ""; r.still {
		return r
	}
	r.needles, r.encoded = []string{r.from.host}, inBase64(r.from.host)
	r.further = append([]string{r.from.host}, r.encoded...)
	r.extra = newFinder(r.encoded)
	return r
}

// Another is a rewriter that does the same, and has counted nothing.
func (r *Rewriter) Another() *Rewriter {
	own := *r
	own.counted, own.report = TableCount{}, Tally{Tables: map[string]TableCount{}, Left: []Left{}}
	return &own
}

// holds tells whether a text may have something that is to be changed.
func (r *Rewriter) holds(text string) bool {
	if r.forms != nil {
		return r.holdsForm(text)
	}
	return !r.still && strings.Contains(text, r.from.host) || r.others && r.folders != nil && strings.Contains(text, r.folders.last())
}

// where is the place in a text at which something may stand that is to be changed.
func (r *Rewriter) where(text string) int {
	if at := strings.Index(text, r.from.host); at >= 0 || r.folders == nil {
		return max(at, 0)
	}
	return max(strings.Index(text, r.folders.last()), 0)
}

// Tally is what a rewriter has done so far.
type Tally struct {
	Tables    map[string]TableCount `json:"tables"`
	Left      []Left                `json:"left" nullable:"false" doc:"Values that hold the address and were left alone; the first 100"`
	LeftCount int                   `json:"left_count"`
	LeftOut   []string              `json:"left_out,omitempty" doc:"Statements of a dump that are no content of a site, and were left out"`
}

// TableCount is what was changed in one table.
type TableCount struct {
	Values    int `json:"values"`
	Addresses int `json:"addresses"`
	Paths     int `json:"paths,omitempty" doc:"Of files, below the site's folder"`
}

// Left is one value that was left alone.
type Left struct {
	Table   string `json:"table"`
	Why     string `json:"why"`
	Excerpt string `json:"excerpt"`
}

// LeaveOut notes which statements of a dump were left out.
func (r *Rewriter) LeaveOut(what []string) { r.report.LeftOut = what }

// Tally returns the counts so far.
func (r *Rewriter) Tally() Tally { return r.report }

// String tells the counts in one line.
func (r Tally) String() string {
	values, addresses, paths := 0, 0, 0
	for _, c := range r.Tables {
		values, addresses, paths = values+c.Values, addresses+c.Addresses, paths+c.Paths
	}
	text := found(addresses, paths) + " in " + Many(values, "value", "values") + " of " + Many(len(r.Tables), "table",
		"tables")
	if r.LeftCount > 0 {
		text += "; " + Many(r.LeftCount, "value", "values") + " left alone"
	}
	return text
}

// String tells the counts of one table.
func (c TableCount) String() string {
	return found(c.Addresses, c.Paths) + " in " + Many(c.Values, "value", "values")
}

func found(addresses, paths int) string {
	text := Many(addresses, "address", "addresses")
	if paths > 0 {
		text += " and " + Many(paths, "path", "paths")
	}
	return text
}

// Many says how many there are of something.
func Many(count int, one, more string) string {
	if count == 1 {
		return "1 " + one
	}
	return strconv.Itoa(count) + " " + more
}

// leftKept is how many of them are told.
const leftKept = 100

// leave counts a value that is left alone; at is where in it the host's name stands.
func (r *Rewriter) leave(why, value string, at int) {
	if r.report.LeftCount++; len(r.report.Left) < leftKept {
		excerpt := strings.Clone(strings.ToValidUTF8(value[max(0, at-40):min(len(value), at+len(r.from.host)+40)], ""))
		r.report.Left = append(r.report.Left, Left{r.table, why, excerpt})
	}
}

// Value rewrites one stored value.
func (r *Rewriter) Value(value string) string {
	r.others = r.others || r.extra.in(value)
	if !r.holds(value) {
		return value
	}
	rewritten := r.value(value)
	if r.counted.Addresses+r.counted.Paths > 0 {
		r.counted.Values++
		r.settle()
	}
	return rewritten
}

// settle adds what was counted for one value to its table.
func (r *Rewriter) settle() {
	c := r.report.Tables[r.table]
	c.Values, c.Addresses, c.Paths = c.Values+r.counted.Values, c.Addresses+r.counted.Addresses, c.Paths+r.counted.Paths
	r.report.Tables[r.table], r.counted = c, TableCount{}
}

// looksSerialised tells whether a value begins as one of PHP's serialised values that hold others or texts.
func looksSerialised(value string) bool {
	if !mayBeSerialised(value) {
		return false
	}
	after := value[2+strings.IndexByte(value[2:], ':')+1:]
	return value[0] == 'a' || value[0] == 'C' || strings.HasPrefix(after, `"`)
}

func (r *Rewriter) value(value string) string {
	if !r.holds(value) {
		return value
	}
	if value == r.from.hostPort && !r.still { // a stored domain
		r.count(1)
		return r.to.hostPort
	}
	if name, found := strings.CutSuffix(value, r.from.hostPort); found && !r.still && r.SubDomains && strings.HasSuffix(name,
		".") && isLabels(name[:len(name)-1]) {
		r.count(1)
		return name + r.to.hostPort
	}
	if looksSerialised(value) {
		before := r.counted
		if rewritten, rest, ok := r.serialised(make([]byte, 0, len(value)+len(value)/8+16), value); ok && rest == "" {
			return string(rewritten)
		}
		r.counted = before
		r.leave("a damaged serialised value", value, r.where(value))
		return value
	}
	return r.text(value)
}

func (r *Rewriter) count(addresses int) { r.counted.Addresses += addresses }

// text replaces addresses in plain text, keeping the way in which each is written.
func (r *Rewriter) text(text string) string {
	out := make([]byte, 0, len(text)+len(text)/8+32)
	if r.appendText(&out, text) == 0 {
		return text
	}
	return string(out)
}

// appendText is text into a buffer, to which nothing is appended where there is nothing to replace; it returns how many were.
func (r *Rewriter) appendText(out *[]byte, text string) (replaced int) {
	if r.forms != nil {
		return r.appendForms(out, text)
	}
	text, paths := r.moved(text)
	r.counted.Paths += paths
	done, search, strange := 0, 0, -1
	for !r.still {
		at := strings.Index(text[search:], r.from.host)
		if at < 0 {
			break
		}
		at += search
		search = at + len(r.from.host)
		found, ok := r.occurrence(text, at)
		if !ok {
			if strange < 0 {
				strange = at
			}
			continue
		}
		*out = append(*out, text[done:found.from]...)
		if found.scheme {
			*out = append(append(*out, r.to.schemeLike(text[found.from:])...), found.colon...)
		}
		*out = append(append(*out, text[found.slashes:found.host]...), r.to.host...)
		if r.to.port != "" {
			*out = append(append(*out, found.colon...), r.to.port...)
		}
		done, search = found.to, found.to
		replaced++
	}
	if strange >= 0 {
		r.leave("not an address of the site", text, strange)
	}
	r.count(replaced)
	if replaced+paths > 0 {
		*out = append(*out, text[done:]...)
	}
	return replaced + paths
}

// place is where an address stands in a text: from the scheme, if it has one, over the slashes and the host to the end.
type place struct {
	from, slashes, host, to int
	scheme                  bool
	colon                   string // how a colon is written there
}

// schemes are those of a site's addresses: of pages, and of WebSockets (RFC 6455).
var schemes = []string{"https", "http", "wss", "ws"}

// schemeLike is an address's scheme for where one begins a text: for WebSockets, theirs.
func (a address) schemeLike(text string) string {
	if !strings.HasPrefix(text, "ws") {
		return a.scheme
	}
	return "ws" + strings.TrimPrefix(a.scheme, "http")
}

// occurrence judges one place where the host's name stands.
func (r *Rewriter) occurrence(text string, at int) (found place, ok bool) {
	begin := at
	if r.SubDomains {
		for begin > 0 && (isName(text[begin-1]) && text[begin-1] < 0x80) {
			begin--
		}
		name, isSub := strings.CutSuffix(text[begin:at], ".")
		for _, encoded := range []string{"252F", "252f", "2F", "2f"} { // a percent sign is no part of a name, but what follows it looks like one
			name = strings.TrimPrefix(name, encoded)
		}
		if begin = at; isSub && isLabels(name) {
			begin = at - len(name) - 1
		}
	}
	length, colon := separator(text[:begin])
	if length == 0 {
		return place{}, false
	}
	found = place{from: begin - length, slashes: begin - length, host: at, to: at + len(r.from.host), colon: colon}
	if before, cut := strings.CutSuffix(text[:found.from], colon); cut {
		scheme := 0
		for _, each := range schemes {
			if scheme == 0 && strings.HasSuffix(before, each) {
				scheme = len(each)
			}
		}
		if scheme == 0 {
			return place{}, false
		}
		if rest := before[:len(before)-scheme]; rest != "" && isLetter(rest[len(rest)-1]) && !(r.escaped && isEscape(rest)) {
			return place{}, false
		}
		found.from -= len(colon) + scheme
		found.scheme = true
	} else if from := found.from; from > 0 && !(r.escaped && isEscape(text[:from])) &&
		(isName(text[from-1]) || text[from-1] == '/' || text[from-1] == ':' || text[from-1] == '%') {
		return place{}, false
	}
	rest := text[found.to:]
	if r.from.port != "" {
		if !strings.HasPrefix(rest, colon) || !strings.HasPrefix(rest[len(colon):], r.from.port) {
			return place{}, false
		}
		found.to += len(colon) + len(r.from.port)
		rest = text[found.to:]
	} else if after, cut := strings.CutPrefix(rest, colon); cut && after != "" && after[0] >= '0' && after[0] <= '9' {
		return place{}, false
	}
	if rest != "" && (isName(rest[0]) && rest[0] != '.' && rest[0] != '%' || rest[0] == '@' || rest[0] == '.' && len(rest) > 1 &&
		isName(rest[1]) && rest[1] != '.') ||
		strings.HasPrefix(rest, "%40") || strings.HasPrefix(rest, "%2E") {
		return place{}, false
	}
	return found, true
}

// encodings are the ways in which percent-encoding writes two slashes, and a colon with them.
var encodings = []struct{ slashes, colon string }{{"%2F%2F", "%3A"}, {"%2f%2f", "%3a"}, {"%252F%252F", "%253A"}, {"%252f%252f", "%253a"}}

// separator is the length of the two slashes at the end of a text, however they are written, and how a colon is written with them.
func separator(text string) (length int, colon string) {
	end := len(text)
	if end > 0 && text[end-1] != '/' {
		for _, encoded := range encodings {
			if strings.HasSuffix(text, encoded.slashes) {
				return len(encoded.slashes), encoded.colon
			}
		}
	}
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

// isEscape tells whether a text as SQL has it in quotes ends in an escape, such as \n, and not in a letter of its own.
func isEscape(text string) bool {
	backslashes := 0
	for at := len(text) - 2; at >= 0 && text[at] == '\\'; at-- {
		backslashes++
	}
	return backslashes%2 == 1
}

// isLabels tells whether a text is one or more labels of a host name.
func isLabels(name string) bool {
	for label := range strings.SplitSeq(name, ".") {
		if label == "" || label[0] == '-' || label[len(label)-1] == '-' || strings.ContainsFunc(label, func(c rune) bool {
			return c != '-' && (c < '0' || c > '9') && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z')
		}) {
			return false
		}
	}
	return true
}

func isLetter(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }

// isName tells whether a byte may stand in a host's name.
func isName(c byte) bool {
	return isLetter(c) || c >= '0' && c <= '9' || c == '-' || c == '_' || c == '.' || c >= 0x80
}

// serialised appends one value in PHP's serialize() format (https://www.php.net/manual/en/function.serialize.php) that stands at the
// start of a text, rewritten; ok is false where the text is not one.
func (r *Rewriter) serialised(out []byte, text string) (written []byte, rest string, ok bool) {
	if len(text) < 2 {
		return nil, "", false
	}
	switch text[0] {
	case 'N':
		if rest, ok = strings.CutPrefix(text, "N;"); ok {
			out = append(out, "N;"...)
		}
		return out, rest, ok
	case 'b', 'i', 'd', 'r', 'R':
		end := strings.IndexByte(text, ';')
		if text[1] != ':' || end < 3 || strings.ContainsAny(text[2:end], "{}\"") {
			return nil, "", false
		}
		return append(out, text[:end+1]...), text[end+1:], true
	case 's', 'E':
		body, rest, ok := quoted(text[1:], ";")
		if !ok {
			return nil, "", false
		}
		if text[0] == 's' {
			body = r.value(body)
		}
		out = strconv.AppendInt(append(out, text[0], ':'), int64(len(body)), 10)
		out = append(append(append(out, `:"`...), body...), `";`...)
		return out, rest, true
	case 'a':
		return r.items(append(out, 'a'), text[1:])
	case 'O':
		_, rest, ok := quoted(text[1:], "")
		if !ok {
			return nil, "", false
		}
		return r.items(append(out, text[:len(text)-len(rest)]...), rest)
	case 'C': // an object with its own format inside: left as it is
		_, rest, ok := quoted(text[1:], "")
		if !ok {
			return nil, "", false
		}
		length, rest, ok := number(rest)
		if !ok || len(rest) < length+2 || rest[0] != '{' || rest[length+1] != '}' {
			return nil, "", false
		}
		if r.holds(rest[:length+2]) {
			r.leave("an object with a format of its own", rest[:length+2], r.where(rest))
		}
		rest = rest[length+2:]
		return append(out, text[:len(text)-len(rest)]...), rest, true
	}
	return nil, "", false
}

// items appends :COUNT:{…}, the keys and values of an array or object.
func (r *Rewriter) items(out []byte, text string) (written []byte, rest string, ok bool) {
	count, rest, ok := number(text)
	if !ok || !strings.HasPrefix(rest, "{") {
		return nil, "", false
	}
	out = append(out, text[:len(text)-len(rest)+1]...)
	rest = rest[1:]
	for range 2 * count {
		if out, rest, ok = r.serialised(out, rest); !ok {
			return nil, "", false
		}
	}
	if !strings.HasPrefix(rest, "}") {
		return nil, "", false
	}
	return append(out, '}'), rest[1:], true
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
