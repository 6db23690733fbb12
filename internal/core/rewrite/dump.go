package rewrite

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"
)

// Longest is how long one statement may be, in bytes: a server of ours takes no more. Divided is how long an INSERT grows before it is
// given out in parts.
const (
	Longest = 64 << 20
	divided = 4 << 20
)

var tableOf = regexp.MustCompile("(?i)^(?:INSERT|REPLACE)(?: IGNORE| LOW_PRIORITY| DELAYED)*(?: INTO)?\\s+`?([^`\\s(]+)")

// Statement rewrites the strings of one SQL statement; names, comments, and strings that are said to be binary stay.
func (r *Rewriter) Statement(statement string) (string, error) {
	if r.others = r.extra.in(statement); !r.others && !r.holds(statement) {
		return statement, nil
	}
	literals, err := literalsOf(statement)
	if err != nil {
		return "", err
	}
	if out := r.appendStatement(nil, statement, literals); out != nil {
		return string(out), nil
	}
	return statement, nil
}

// literalsOf finds the literals of a statement, also in comments that are code.
func literalsOf(statement string) (literals []span, err error) {
	text := []byte(statement)
	for at := 0; at < len(text); {
		c := text[at]
		switch {
		case c == '#' || c == '-' && (strings.HasPrefix(statement[at:], "-- ") || strings.HasPrefix(statement[at:], "--\n")):
			if end := strings.IndexByte(statement[at:], '\n'); end >= 0 {
				at += end
			} else {
				at = len(statement)
			}
		case c == '/' && strings.HasPrefix(statement[at:], "/*") && !strings.HasPrefix(statement[at:], "/*!"):
			end := strings.Index(statement[at+2:], "*/")
			if end < 0 {
				return nil, fmt.Errorf("the statement ends inside a comment")
			}
			at += end + 4
		case c == '\'' || c == '"' || c == '`':
			next, ended := past(text, at+1, c)
			for ended && next < len(text) && text[next] == c { // doubled
				next, ended = past(text, next+1, c)
			}
			if !ended {
				return nil, fmt.Errorf("the dump ends inside a string that begins at byte %d", at)
			}
			if c != '`' {
				literals = append(literals, span{int32(at), int32(next)})
			}
			at = next
		default:
			at++
		}
	}
	return literals, nil
}

// appendStatement is Statement into a buffer, where its literals are known; nil where nothing is to be changed.
func (r *Rewriter) appendStatement(out []byte, statement string, literals []span) []byte {
	r.table = ""
	if match := tableOf.FindStringSubmatch(statement[:min(len(statement), 300)]); match != nil {
		r.table = strings.Clone(match[1])
	}
	needles := r.needles
	if r.others {
		needles = r.further
	}
	done, at, places := 0, 0, newHunt(statement, needles)
	for {
		if at = places.from(at); at < 0 {
			break
		}
		i, _ := slices.BinarySearchFunc(literals, at, func(l span, at int) int { return cmp.Compare(int(l.to), at+1) })
		if literals = literals[i:]; len(literals) == 0 {
			break
		}
		from, to := int(literals[0].from), int(literals[0].to)
		if at < from { // in a name or a comment
			at = from
			continue
		}
		before := len(out)
		out = append(out, statement[done:from]...)
		if r.literal(&out, statement, from, to) {
			done = to
		} else {
			out = out[:before]
		}
		at = to
	}
	if done == 0 {
		return nil
	}
	return append(out, statement[done:]...)
}

// literal appends one string literal, rewritten. Only a serialised value, whose lengths count what the server reads, has to be unquoted:
// in any other, addresses are found and replaced in the way in which the dump writes them.
func (r *Rewriter) literal(out *[]byte, statement string, from, to int) (changed bool) {
	whole := statement[from:to]
	body := whole[1 : len(whole)-1]
	if binary(statement[:from]) {
		r.leave("a binary value", body, r.where(body))
		return false
	}
	if r.others {
		for _, form := range r.encoded {
			if at := strings.Index(body, form); at >= 0 {
				r.leave("encoded in base64", body, at)
				break
			}
		}
		if !r.holds(body) {
			return false
		}
	}
	if body == r.from.hostPort || r.SubDomains && len(body) < 260 || mayBeSerialised(body) {
		value := unquote(whole)
		own := r.Value(value)
		if own == value {
			return false
		}
		*out = appendQuoted(*out, own)
		return true
	}
	r.escaped = true
	*out = append(*out, whole[0])
	replaced := r.appendText(out, body)
	r.escaped = false
	if replaced == 0 {
		return false
	}
	*out = append(*out, whole[0])
	r.counted.Values++
	r.settle()
	return true
}

// mayBeSerialised tells whether a literal's text begins as a serialised value that holds others or texts.
func mayBeSerialised(body string) bool {
	if len(body) < 5 || body[1] != ':' || strings.IndexByte("aOCsSE", body[0]) < 0 {
		return false
	}
	digits := 2
	for digits < len(body) && body[digits] >= '0' && body[digits] <= '9' {
		digits++
	}
	return digits > 2 && digits < len(body) && body[digits] == ':'
}

// binary tells whether the literal that follows is said to be bytes.
func binary(before string) bool {
	return strings.HasSuffix(before, "_binary ") || strings.HasSuffix(before, "_binary") || strings.HasSuffix(before,
		"X") || strings.HasSuffix(before, "x")
}

// portion is some statements of a dump on their way through Dump.
type portion struct {
	text       strings.Builder // of all its statements
	statements []statement
	rewriter   *Rewriter
	out        []byte
	err        error
	done       chan struct{}
}

type statement struct {
	from, to  int // in the portion's text
	delimiter string
	literals  []span // nil where they are still to be found
	remark    bool   // it ends in a comment to the end of its line
}

// outs are buffers that were written and can be filled again.
var outs = sync.Pool{New: func() any { return new([]byte) }}

// portionBytes is how much goes to one worker at a time.
const portionBytes = 1 << 20

// Dump rewrites a whole dump in one pass, on all processors, and writes every statement on its own lines. The order stays.
func (r *Rewriter) Dump(to io.Writer, from io.Reader) error {
	waiting, ordered := make(chan *portion), make(chan *portion, runtime.GOMAXPROCS(0)+2)
	for range runtime.GOMAXPROCS(0) {
		go func() {
			for p := range waiting {
				p.rewrite()
				close(p.done)
			}
		}()
	}
	go r.Another().portions(from, waiting, ordered) // what has been counted is joined to r meanwhile
	var fault error
	for p := range ordered { // also after a fault: whoever reads must come to an end
		<-p.done
		if p.rewriter != nil {
			r.join(p.rewriter)
		}
		if fault = errors.Join(fault, p.err); fault == nil {
			_, fault = to.Write(p.out)
		}
		p.out = p.out[:0]
		outs.Put(&p.out)
	}
	return fault
}

// portions reads a dump and hands it out.
func (r *Rewriter) portions(from io.Reader, waiting, ordered chan<- *portion) {
	defer close(ordered)
	defer close(waiting)
	scanner := NewScanner(from)
	p, size := &portion{done: make(chan struct{})}, 0
	send := func() {
		p.rewriter = r.Another()
		ordered <- p
		waiting <- p
		p, size = &portion{done: make(chan struct{})}, 0
	}
	for {
		text, err := scanner.Next()
		if errors.Is(err, io.EOF) {
			send()
			return
		}
		if err != nil {
			p.err = err
			send()
			return
		}
		if p.text.Len() == 0 {
			p.text.Grow(portionBytes * 5 / 4)
		}
		one := statement{from: p.text.Len(), delimiter: string(scanner.delimiter), remark: scanner.remark}
		p.text.Write(text)
		one.to = p.text.Len()
		if !scanner.nested {
			one.literals = append([]span{}, scanner.literals...)
		}
		p.statements = append(p.statements, one)
		if size += len(text); size >= portionBytes {
			send()
		}
	}
}

// rewrite does the work for one portion.
func (p *portion) rewrite() {
	p.out = *outs.Get().(*[]byte)
	text := p.text.String()
	delimiter := ";"
	p.rewriter.others = p.rewriter.extra.in(text)
	for _, each := range p.statements {
		if each.delimiter != delimiter {
			delimiter = each.delimiter
			p.out = append(append(append(p.out, "DELIMITER "...), delimiter...), '\n')
		}
		if each.literals == nil && (p.rewriter.others || p.rewriter.holds(text[each.from:each.to])) {
			literals, err := literalsOf(text[each.from:each.to])
			if err != nil {
				p.err = errors.Join(p.err, err)
				return
			}
			each.literals = literals
		}
		if out := p.rewriter.appendStatement(p.out, text[each.from:each.to], each.literals); out != nil {
			p.out = out
		} else {
			p.out = append(p.out, text[each.from:each.to]...)
		}
		if each.remark {
			p.out = append(p.out, '\n')
		}
		p.out = append(append(p.out, delimiter...), '\n')
	}
	if delimiter != ";" { // the next portion begins as any dump does
		p.out = append(p.out, "DELIMITER ;\n"...)
	}
}

// join adds what another rewriter has counted.
func (r *Rewriter) join(other *Rewriter) {
	for table, c := range other.report.Tables {
		own := r.report.Tables[table]
		r.report.Tables[table] = TableCount{own.Values + c.Values, own.Addresses + c.Addresses, own.Paths + c.Paths}
	}
	r.report.LeftCount += other.report.LeftCount
	r.report.Left = append(r.report.Left, other.report.Left[:min(len(other.report.Left), leftKept-min(len(r.report.Left), leftKept))]...)
}

// appendQuoted is Quote into a buffer.
func appendQuoted(out []byte, value string) []byte {
	out = append(out, '\'')
	done := 0
	for i := 0; i < len(value); i++ {
		var letter byte
		switch value[i] {
		case '\\', '\'':
			letter = value[i]
		case '\n':
			letter = 'n'
		case '\r':
			letter = 'r'
		case 0:
			letter = '0'
		case 0x1a:
			letter = 'Z'
		default:
			continue
		}
		out = append(append(out, value[done:i]...), '\\', letter)
		done = i + 1
	}
	return append(append(out, value[done:]...), '\'')
}

// Quote writes a value as an SQL string literal.
func Quote(value string) string { return string(appendQuoted(nil, value)) }

// unquote reads a literal as the server would (https://mariadb.com/kb/en/string-literals/).
func unquote(literal string) string {
	quote, body := literal[0], literal[1:len(literal)-1]
	if strings.IndexByte(body, '\\') < 0 && strings.IndexByte(body, quote) < 0 {
		return body
	}
	out := make([]byte, 0, len(body))
	for len(body) > 0 {
		at := strings.IndexByte(body, '\\')
		plain := body
		if at >= 0 {
			plain = body[:at]
		}
		for { // a doubled quote is one
			doubled := strings.IndexByte(plain, quote)
			if doubled < 0 || doubled+1 >= len(plain) || plain[doubled+1] != quote {
				break
			}
			out = append(out, plain[:doubled+1]...)
			plain = plain[doubled+2:]
		}
		out = append(out, plain...)
		if at < 0 {
			break
		}
		if at+1 == len(body) {
			out = append(out, '\\')
			break
		}
		switch c := body[at+1]; c {
		case 'n':
			out = append(out, '\n')
		case 'r':
			out = append(out, '\r')
		case '0':
			out = append(out, 0)
		case 'Z':
			out = append(out, 0x1a)
		case 't':
			out = append(out, '\t')
		case 'b':
			out = append(out, '\b')
		case '%', '_':
			out = append(out, '\\', c)
		default:
			out = append(out, c)
		}
		body = body[at+2:]
	}
	return string(out)
}
