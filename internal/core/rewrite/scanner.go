package rewrite

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
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
	nested    bool   // the statement in hand has comments that are code, and so perhaps literals in them
	head      []byte // what an INSERT that was divided begins with; nil where the next statement is whole
	rows      int64  // of that INSERT, given out before
	byTool    bool   // a dump by a database's own tool has begun, and must have its last line
}

// span is where a literal stands in a statement, with its quotes.
type span struct{ from, to int32 }

// ErrTooLong says that a statement, and so a value in it, is longer than a server takes.
var ErrTooLong = errors.New("it is longer than a server takes")

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
	if s.offset == 0 && s.start == 0 && s.has([]byte("\xef\xbb\xbf")) { // a byte order mark
		s.start = 3
	}
	if s.head != nil { // there is room: the rows before it were given out
		s.start -= len(s.head)
		copy(s.buffer[s.start:], s.head)
		s.head = nil
	} else {
		s.rows = 0
	}
	s.at, s.code, s.remark, s.nested, s.literals = s.start, false, false, false, s.literals[:0]
	if err := s.delimiterLine(); err != nil {
		return nil, err
	}
	looked := 0 // how long the statement was when it was last tried to divide it
	for {
		if s.at-s.start > max(divided, 2*looked) {
			if part := s.divide(); part != nil {
				return part, nil
			}
			looked = s.at - s.start
		}
		if s.at >= len(s.buffer) && !s.more() {
			return s.last()
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
			s.lineRemark()
		case c == '/' && s.has([]byte("/*")):
			if err := s.comment(); err != nil {
				return nil, err
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

// last is what stands after the last delimiter; io.EOF where that is nothing.
func (s *Scanner) last() ([]byte, error) {
	rest := s.buffer[s.start:]
	if len(rest) >= Longest {
		return nil, s.tooLong(rest)
	}
	if s.byTool {
		return nil, fmt.Errorf("the dump breaks off at byte %d: the last line, “-- Dump completed”, is missing; export it again",
			s.offset+int64(len(s.buffer)))
	}
	if s.start = len(s.buffer); len(bytes.TrimSpace(rest)) == 0 {
		return nil, io.EOF
	}
	return rest, nil
}

// lineRemark goes to the end of a remark that ends with its line.
func (s *Scanner) lineRemark() {
	s.remark = true
	switch { // one that was begun must be ended; more may follow it, another one too
	case s.has([]byte("-- MariaDB dump ")) || s.has([]byte("-- MySQL dump ")):
		s.byTool = s.byTool || !s.code
	case s.has([]byte("-- Dump completed")):
		s.byTool = false
	}
	for s.at < len(s.buffer) || s.more() {
		if end := bytes.IndexByte(s.buffer[s.at:], '\n'); end >= 0 {
			s.at += end
			break
		}
		s.at = len(s.buffer)
	}
}

// comment goes behind a comment between slashes and stars.
func (s *Scanner) comment() error {
	begin := s.offset + int64(s.at)
	if s.has([]byte("/*!")) {
		s.code, s.nested, s.remark = true, true, false
	}
	for s.at += 2; ; {
		if end := bytes.Index(s.buffer[s.at:], []byte("*/")); end >= 0 {
			s.at += end + 2
			return nil
		}
		s.at = max(s.at, len(s.buffer)-1)
		if !s.more() {
			return s.broken("a comment", begin)
		}
	}
}

// broken says where a dump stops in the middle of something.
func (s *Scanner) broken(what string, begin int64) error {
	if statement := s.buffer[s.start:]; len(statement) >= Longest {
		return s.tooLong(statement)
	}
	return fmt.Errorf("the dump ends inside %s that begins at byte %d", what, begin)
}

// tooLong names the table and the row of a statement that no server takes.
func (s *Scanner) tooLong(statement []byte) error {
	start := statement[:min(len(statement), 300)]
	if match := tableOf.FindSubmatch(bytes.TrimSpace(start)); match != nil {
		_, _, rows := rowsOf(statement)
		return fmt.Errorf("table %s, row %d: %w (more than %d MB in one row); leave that value out of the dump", match[1], s.rows+rows+1,
			ErrTooLong, Longest>>20)
	}
	return fmt.Errorf("the statement that begins with %q: %w (more than %d MB)", start[:min(len(start), 60)], ErrTooLong, Longest>>20)
}

// divide gives out the rows of a long INSERT that were read so far, and keeps its head for those that follow. It returns nil where the
// statement is none, or has no row that ends.
func (s *Scanner) divide() []byte {
	statement := s.buffer[s.start:s.at]
	lead := len(statement) - len(bytes.TrimLeft(statement, " \t\r\n"))
	if !tableOf.Match(statement[lead:min(len(statement), lead+300)]) {
		return nil
	}
	first, last, rows := rowsOf(statement)
	if last <= first {
		return nil
	}
	s.head, s.rows = bytes.Clone(statement[:first]), s.rows+rows
	if len(s.head) > last { // never: the head is before the rows
		return nil
	}
	s.start += last + 1 // past the comma
	s.literals = slices.DeleteFunc(s.literals, func(l span) bool { return int(l.to) > last })
	return statement[:last]
}

var valuesWord = regexp.MustCompile(`(?i)^VALUES?[\s(]`)

// rowsOf finds, in an INSERT that is read in part, where its first row begins, where the last row that is followed by another ends, and
// how many there are in between.
func rowsOf(statement []byte) (first, last int, rows int64) {
	depth, values := 0, false
	for at := 0; at < len(statement); {
		switch c := statement[at]; {
		case c == '\'' || c == '"' || c == '`':
			next, ended := past(statement, at+1, c)
			for ended && next < len(statement) && statement[next] == c {
				next, ended = past(statement, next+1, c)
			}
			if !ended {
				return first, last, rows
			}
			at = next
			continue
		case c == '(':
			if depth == 0 && values && first == 0 {
				first = at
			}
			depth++
		case c == ')':
			depth--
		case c == ',' && depth == 0 && first > 0:
			last, rows = at, rows+1
		case depth == 0 && !values && (c == 'V' || c == 'v'):
			values = valuesWord.Match(statement[at:min(len(statement), at+8)]) && statement[at-1] <= ')'
		}
		at++
	}
	return first, last, rows
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
				return s.broken("a string", begin)
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
		if len(s.buffer) >= Longest {
			s.ended = true
			return false
		}
		s.buffer = append(make([]byte, 0, min(2*cap(s.buffer), Longest)), s.buffer...)
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
		if errors.Is(err, io.EOF) {
			return statements, nil
		}
		if err != nil {
			return nil, err
		}
		statements = append(statements, string(statement))
	}
}
