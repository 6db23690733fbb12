package rewrite

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"regexp"
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
	delimiter []byte
	offset    int64 // of buffer[0] in the dump
}

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
		if s.code { // else it is comments alone
			return bytes.TrimSpace(statement), nil
		}
	}
}

func (s *Scanner) next() ([]byte, error) {
	s.at, s.code = s.start, false
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
			s.code = s.code || c > ' '
			s.at++
		case c == '\'' || c == '"' || c == '`':
			s.code = true
			if err := s.quoted(c); err != nil {
				return nil, err
			}
		case c == '#' || c == '-' && (s.has([]byte("-- ")) || s.has([]byte("--\n"))):
			for s.at < len(s.buffer) || s.more() {
				if end := bytes.IndexByte(s.buffer[s.at:], '\n'); end >= 0 {
					s.at += end
					break
				}
				s.at = len(s.buffer)
			}
		case c == '/' && s.has([]byte("/*")):
			begin := s.offset + int64(s.at)
			s.code = s.code || s.has([]byte("/*!"))
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
			s.code = s.code || c > ' '
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
	unended := fmt.Errorf("the dump ends inside a string that begins at byte %d", begin)
	for {
		rest := s.buffer[s.at:]
		end := bytes.IndexByte(rest, quote)
		body := rest
		if end >= 0 {
			body = rest[:end]
		}
		if back := bytes.IndexByte(body, '\\'); back >= 0 && quote != '`' {
			s.at += back
			if back+1 == len(rest) && !s.more() {
				return unended
			}
			s.at += 2
			continue
		}
		s.at += len(body)
		if end < 0 {
			if !s.more() {
				return unended
			}
			continue
		}
		s.at++
		if (s.at < len(s.buffer) || s.more()) && s.buffer[s.at] == quote { // doubled: it goes on
			s.at++
			continue
		}
		return nil
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
	r.table = ""
	if match := tableOf.FindStringSubmatch(statement[:min(len(statement), 300)]); match != nil {
		r.table = match[1]
	}
	var out strings.Builder
	out.Grow(len(statement) + len(statement)/8)
	done, at := 0, 0
	for at < len(statement) {
		c := statement[at]
		if !special[c] {
			at++
			continue
		}
		switch {
		case c == '#' || c == '-' && strings.HasPrefix(statement[at:], "-- "):
			if end := strings.IndexByte(statement[at:], '\n'); end >= 0 {
				at += end
			} else {
				at = len(statement)
			}
		case c == '/' && strings.HasPrefix(statement[at:], "/*") && !strings.HasPrefix(statement[at:], "/*!"):
			end := strings.Index(statement[at:], "*/")
			if end < 0 {
				return "", fmt.Errorf("the statement ends inside a comment")
			}
			at += end + 2
		case c == '\'' || c == '"' || c == '`':
			end, err := stringEnd(statement, at)
			if err != nil {
				return "", err
			}
			if literal := statement[at:end]; c != '`' && strings.Contains(literal, r.from.host) {
				value := unquote(literal)
				if binary(statement[:at]) {
					r.leave("a binary value", value)
				} else if rewritten := r.Value(value); rewritten != value {
					out.WriteString(statement[done:at])
					out.WriteString(Quote(rewritten))
					done = end
				}
			}
			at = end
		default:
			at++
		}
	}
	if done == 0 {
		return statement, nil
	}
	out.WriteString(statement[done:])
	return out.String(), nil
}

// binary tells whether the literal that follows is said to be bytes.
func binary(before string) bool {
	return strings.HasSuffix(before, "_binary ") || strings.HasSuffix(before, "_binary") || strings.HasSuffix(before, "X") || strings.HasSuffix(before, "x")
}

// Dump rewrites a whole dump in one pass, and writes every statement on its own lines.
func (r *Rewriter) Dump(to io.Writer, from io.Reader) error {
	scanner := NewScanner(from)
	delimiter := ";"
	for {
		statement, err := scanner.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		text := statement
		if bytes.Contains(statement, []byte(r.from.host)) {
			rewritten, err := r.Statement(string(statement))
			if err != nil {
				return err
			}
			text = []byte(rewritten)
		}
		if next := string(scanner.delimiter); next != delimiter {
			delimiter = next
			if _, err := fmt.Fprintf(to, "DELIMITER %s\n", delimiter); err != nil {
				return err
			}
		}
		end := delimiter
		if last := text[bytes.LastIndexByte(text, '\n')+1:]; bytes.Contains(last, []byte("-- ")) || bytes.IndexByte(last, '#') >= 0 {
			end = "\n" + end // it may end in a comment
		}
		for _, part := range [][]byte{text, []byte(end), {'\n'}} {
			if _, err := to.Write(part); err != nil {
				return err
			}
		}
	}
}

// stringEnd returns the index after the quoted text that begins at start.
func stringEnd(text string, start int) (int, error) {
	quote := text[start]
	for i := start + 1; i < len(text); {
		end := strings.IndexByte(text[i:], quote)
		if end < 0 {
			break
		}
		if quote != '`' {
			if back := strings.IndexByte(text[i:i+end], '\\'); back >= 0 {
				i += back + 2
				continue
			}
		}
		if i += end + 1; i < len(text) && text[i] == quote {
			i++
			continue
		}
		return i, nil
	}
	return 0, fmt.Errorf("the dump ends inside a string that begins at byte %d", start)
}

var escapes = strings.NewReplacer(`\`, `\\`, `'`, `\'`, "\n", `\n`, "\r", `\r`, "\x00", `\0`, "\x1a", `\Z`)

// Quote writes a value as an SQL string literal.
func Quote(value string) string { return "'" + escapes.Replace(value) + "'" }

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
