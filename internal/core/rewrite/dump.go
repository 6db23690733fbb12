package rewrite

import (
	"bytes"
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

// Scanner reads an SQL dump statement by statement, whoever wrote it: it knows strings, quoted names, comments, and the DELIMITER
// lines of MariaDB's clients.
type Scanner struct {
	from      io.Reader
	buffer    []byte
	start     int // of the statement in hand
	at        int // what was looked at so far
	ended     bool
	code      bool // the statement in hand has more than comments
	remark    bool // the last thing in it is a comment to the end of its line
	delimiter []byte
	offset    int64 // of buffer[0] in the dump
	literals  []span
	nested    bool // the statement in hand has comments that are code, and so perhaps literals in them
}

// span is where a literal stands in a statement, with its quotes.
type span struct{ from, to int32 }

// longest is how long one statement may be, in bytes.
const longest = 1 << 30

// NewScanner begins to read a dump.
func NewScanner(from io.Reader) *Scanner {
	return &Scanner{from: from, buffer: make([]byte, 0, 1<<20), delimiter: []byte(";")}
}

// special are the bytes at which something may begin or end.
var special = func() (table [256]bool) {
	for _, c := range []byte("'\"`-#/\n") {
		table[c] = true
	}
	return table
}()

// Next returns the next statement, without its delimiter; it is good until the next call. The error is io.EOF after the last one.
func (s *Scanner) Next() ([]byte, error) {
	for {
		statement, err := s.next()
		if err != nil {
			return nil, err
		}
		if !s.code { // it is comments alone
			continue
		}
		text := bytes.TrimLeft(statement, " \t\r\n\v\f")
		if lead := int32(len(statement) - len(text)); lead > 0 {
			for i := range s.literals {
				s.literals[i].from, s.literals[i].to = s.literals[i].from-lead, s.literals[i].to-lead
			}
		}
		return bytes.TrimRight(text, " \t\r\n\v\f"), nil
	}
}

func (s *Scanner) next() ([]byte, error) {
	s.at, s.code, s.remark, s.nested, s.literals = s.start, false, false, false, s.literals[:0]
	if err := s.delimiterLine(); err != nil {
		return nil, err
	}
	for {
		if s.at >= len(s.buffer) && !s.more() {
			rest := s.buffer[s.start:]
			if s.start = len(s.buffer); len(bytes.TrimSpace(rest)) == 0 {
				return nil, io.EOF
			}
			return rest, nil
		}
		c := s.buffer[s.at]
		switch {
		case c == s.delimiter[0] && s.has(s.delimiter):
			statement := s.buffer[s.start:s.at]
			s.start = s.at + len(s.delimiter)
			return statement, nil
		case !special[c]:
			if c > ' ' {
				s.code, s.remark = true, false
			}
			s.at++
		case c == '\'' || c == '"' || c == '`':
			s.code, s.remark = true, false
			from := s.at - s.start
			if err := s.quoted(c); err != nil {
				return nil, err
			}
			if c != '`' {
				s.literals = append(s.literals, span{int32(from), int32(s.at - s.start)})
			}
		case c == '#' || c == '-' && (s.has([]byte("-- ")) || s.has([]byte("--\n"))):
			s.remark = true
			for s.at < len(s.buffer) || s.more() {
				if end := bytes.IndexByte(s.buffer[s.at:], '\n'); end >= 0 {
					s.at += end
					break
				}
				s.at = len(s.buffer)
			}
		case c == '/' && s.has([]byte("/*")):
			begin := s.offset + int64(s.at)
			if s.has([]byte("/*!")) {
				s.code, s.nested, s.remark = true, true, false
			}
			for s.at += 2; ; {
				if end := bytes.Index(s.buffer[s.at:], []byte("*/")); end >= 0 {
					s.at += end + 2
					break
				}
				s.at = max(s.at, len(s.buffer)-1)
				if !s.more() {
					return nil, fmt.Errorf("the dump ends inside a comment that begins at byte %d", begin)
				}
			}
		case c == '\n' && !s.code: // between statements
			s.at++
			if err := s.delimiterLine(); err != nil {
				return nil, err
			}
		default:
			if c > ' ' {
				s.code, s.remark = true, false
			}
			s.at++
		}
	}
}

// has tells whether a text stands where the scanner is.
func (s *Scanner) has(text []byte) bool {
	for len(s.buffer)-s.at < len(text) {
		if !s.more() {
			return false
		}
	}
	return bytes.HasPrefix(s.buffer[s.at:], text)
}

// quoted goes past a string or a quoted name.
func (s *Scanner) quoted(quote byte) error {
	begin := s.offset + int64(s.at)
	s.at++
	for {
		next, ended := past(s.buffer, s.at, quote)
		s.at = next
		if !ended {
			if !s.more() {
				return fmt.Errorf("the dump ends inside a string that begins at byte %d", begin)
			}
			continue
		}
		if (s.at < len(s.buffer) || s.more()) && s.buffer[s.at] == quote { // doubled: it goes on
			s.at++
			continue
		}
		return nil
	}
}

// past goes from inside a quoted text to after the next quote that no backslash escapes. Where there is none, next is from where to
// look once there is more.
func past(text []byte, at int, quote byte) (next int, ended bool) {
	end := -1 // the next quote, escaped or not
	for {
		if end < at {
			if end = bytes.IndexByte(text[at:], quote); end >= 0 {
				end += at
			} else {
				end = len(text)
			}
		}
		back := -1
		if quote != '`' {
			back = bytes.IndexByte(text[at:end], '\\')
		}
		switch {
		case back < 0 && end == len(text):
			return end, false
		case back < 0:
			return end + 1, true
		case at+back+1 == len(text):
			return at + back, false
		}
		at += back + 2
	}
}

// delimiterLine takes up a line such as DELIMITER //.
func (s *Scanner) delimiterLine() error {
	word := []byte("DELIMITER ")
	if !s.has(word) {
		return nil
	}
	for {
		if end := bytes.IndexByte(s.buffer[s.at:], '\n'); end >= 0 {
			line := s.buffer[s.at+len(word) : s.at+end]
			if s.delimiter = bytes.Clone(bytes.TrimSpace(line)); len(s.delimiter) == 0 {
				return errors.New("the dump has a DELIMITER line that names none")
			}
			s.at += end + 1
			s.start = s.at
			return s.delimiterLine() // there may be another
		}
		if !s.more() {
			return errors.New("the dump ends in a DELIMITER line")
		}
	}
}

// more reads on, and keeps the statement in hand.
func (s *Scanner) more() bool {
	if s.ended {
		return false
	}
	if s.start > 0 {
		kept := copy(s.buffer, s.buffer[s.start:])
		s.buffer = s.buffer[:kept]
		s.offset += int64(s.start)
		s.at -= s.start
		s.start = 0
	}
	if len(s.buffer) == cap(s.buffer) {
		if len(s.buffer) >= longest {
			s.ended = true
			return false
		}
		s.buffer = append(make([]byte, 0, 2*cap(s.buffer)), s.buffer...)
	}
	for range 100 {
		n, err := s.from.Read(s.buffer[len(s.buffer):cap(s.buffer)])
		s.buffer = s.buffer[:len(s.buffer)+n]
		if err != nil {
			s.ended = true
		}
		if n > 0 || err != nil {
			return n > 0
		}
	}
	s.ended = true
	return false
}

// Statements splits a dump that is in memory.
func Statements(dump string) ([]string, error) {
	statements := []string{}
	for scanner := NewScanner(strings.NewReader(dump)); ; {
		statement, err := scanner.Next()
		if err == io.EOF {
			return statements, nil
		}
		if err != nil {
			return nil, err
		}
		statements = append(statements, string(statement))
	}
}

var tableOf = regexp.MustCompile("^(?:INSERT|REPLACE)(?: IGNORE| LOW_PRIORITY| DELAYED)*(?: INTO)?\\s+`?([^`\\s(]+)")

// Statement rewrites the strings of one SQL statement; names, comments, and strings that are said to be binary stay.
func (r *Rewriter) Statement(statement string) (string, error) {
	if !strings.Contains(statement, r.from.host) {
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
	done, at := 0, 0
	for {
		next := strings.Index(statement[at:], r.from.host)
		if next < 0 {
			break
		}
		at += next
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
		r.leave("a binary value", body, strings.Index(body, r.from.host))
		return false
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
	return strings.HasSuffix(before, "_binary ") || strings.HasSuffix(before, "_binary") || strings.HasSuffix(before, "X") || strings.HasSuffix(before, "x")
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
	go r.portions(from, waiting, ordered)
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
		p.rewriter = &Rewriter{SubDomains: r.SubDomains, from: r.from, to: r.to, report: Tally{Tables: map[string]TableCount{}, Left: []Left{}}}
		ordered <- p
		waiting <- p
		p, size = &portion{done: make(chan struct{})}, 0
	}
	for {
		text, err := scanner.Next()
		if err == io.EOF {
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
	for _, each := range p.statements {
		if each.delimiter != delimiter {
			delimiter = each.delimiter
			p.out = append(append(append(p.out, "DELIMITER "...), delimiter...), '\n')
		}
		if each.literals == nil && strings.Contains(text[each.from:each.to], p.rewriter.from.host) {
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
		r.report.Tables[table] = TableCount{own.Values + c.Values, own.Addresses + c.Addresses}
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
