// Package dump judges the statements of somebody's SQL dump: what of it is a site's content, and how a site's own database user can
// carry it out. It is help for clear messages; the wall is what that user may do.
package dump

import (
	"strconv"
	"strings"
)

// kind of a token.
type kind int

const (
	word   kind = iota // a keyword or a bare name
	name               // a name in backticks
	text               // a string in quotes
	symbol             // anything else, a character at a time
)

// token is one of a statement: what stands there, and the white space before it.
type token struct {
	kind   kind
	text   string
	spaced bool
}

// is tells whether a token is one of some keywords, given in capitals.
func (t token) is(words ...string) bool {
	if t.kind != word {
		return false
	}
	for _, w := range words {
		if strings.EqualFold(t.text, w) {
			return true
		}
	}
	return false
}

// bare is a name without its quotes; empty for what is no name.
func (t token) bare() string {
	switch t.kind {
	case word:
		return t.text
	case name:
		return strings.ReplaceAll(t.text[1:len(t.text)-1], "``", "`")
	case text, symbol:
	}
	return ""
}

// The versions that MariaDB leaves out of comments that are code: they are MySQL's own (see "Comment Syntax" in its documentation).
const (
	firstOfMySQL = 50700
	lastOfMySQL  = 99999
	invisible    = 80023 // columns, which are the same in both; indexes have another number
)

// tokens reads a statement, at most so many of its tokens; 0 is all. Comments are left out, and those that are code for the server are
// read as what they hold.
func tokens(statement string, most int) (found []token, rest string) {
	at, spaced, inCode := 0, false, 0
	for at < len(statement) && (most == 0 || len(found) < most) {
		c := statement[at]
		begin := at
		switch {
		case c == ' ' || c == '\t' || c == '\n' || c == '\r' || c == '\v' || c == '\f':
			at, spaced = at+1, true
			continue
		case c == '#' || strings.HasPrefix(statement[at:], "--") && (at+2 == len(statement) || statement[at+2] <= ' '):
			end := strings.IndexByte(statement[at:], '\n')
			if end < 0 {
				return found, ""
			}
			at, spaced = at+end, true
			continue
		case inCode > 0 && strings.HasPrefix(statement[at:], "*/"):
			at, inCode, spaced = at+2, inCode-1, true
			continue
		case strings.HasPrefix(statement[at:], "/*"):
			at, spaced = at+2, true
			if code := codeAt(statement[at:]); code > 0 {
				at, inCode = at+code, inCode+1
				continue
			}
			end := strings.Index(statement[at:], "*/")
			if end < 0 {
				return found, ""
			}
			at += end + 2
			continue
		case c == '\'' || c == '"':
			at = pastQuoted(statement, at, c)
			found = append(found, token{text, statement[begin:at], spaced})
		case c == '`':
			at = pastQuoted(statement, at, c)
			if at-begin < 2 {
				return found, ""
			}
			found = append(found, token{name, statement[begin:at], spaced})
		case letter(c):
			for at < len(statement) && letter(statement[at]) {
				at++
			}
			found = append(found, token{word, statement[begin:at], spaced})
		default:
			at++
			found = append(found, token{symbol, statement[begin:at], spaced})
		}
		spaced = false
	}
	return found, statement[at:]
}

// codeAt tells how long the head of a comment is whose content is code for MariaDB: after /* a ! with, perhaps, a version. 0 where it is
// a comment.
func codeAt(comment string) int {
	at := 0
	switch {
	case strings.HasPrefix(comment, "!"):
		at = 1
	case strings.HasPrefix(comment, "M!"):
		at = 2
	default:
		return 0
	}
	digits := at
	for digits < len(comment) && comment[digits] >= '0' && comment[digits] <= '9' {
		digits++
	}
	version, err := strconv.Atoi(comment[at:digits])
	if err != nil {
		return at
	}
	mysql := at == 1 && version >= firstOfMySQL && version <= lastOfMySQL
	if mysql && version != invisible || version >= 999999 {
		return 0
	}
	return digits
}

func letter(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c == '$' || c >= 0x80
}

// pastQuoted goes from a quote to after its end; to the end of the statement where there is none.
func pastQuoted(statement string, at int, quote byte) int {
	for at++; at < len(statement); at++ {
		switch {
		case statement[at] == '\\' && quote != '`':
			at++
		case statement[at] == quote && at+1 < len(statement) && statement[at+1] == quote:
			at++
		case statement[at] == quote:
			return at + 1
		}
	}
	return len(statement)
}

// join writes tokens as a statement again.
func join(tokens []token) string {
	var out strings.Builder
	for i, t := range tokens {
		if t.spaced && i > 0 {
			out.WriteByte(' ')
		}
		out.WriteString(t.text)
	}
	return out.String()
}
