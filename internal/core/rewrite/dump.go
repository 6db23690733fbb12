package rewrite

import (
	"fmt"
	"strings"
)

// Statements splits an SQL dump at the semicolons that end a statement: not those inside strings, quoted names or comments.
func Statements(dump string) ([]string, error) {
	statements := []string{}
	start := 0
	for i := 0; i < len(dump); {
		switch c := dump[i]; {
		case c == ';':
			if text := strings.TrimSpace(dump[start:i]); text != "" {
				statements = append(statements, text)
			}
			i++
			start = i
		case c == '\'' || c == '"' || c == '`':
			end, err := stringEnd(dump, i)
			if err != nil {
				return nil, err
			}
			i = end
		case c == '#' || strings.HasPrefix(dump[i:], "-- "):
			i += lineLength(dump[i:])
		case strings.HasPrefix(dump[i:], "/*"):
			length := strings.Index(dump[i:], "*/")
			if length < 0 {
				return nil, fmt.Errorf("the dump ends inside a comment that begins at byte %d", i)
			}
			i += length + 2
		default:
			i++
		}
	}
	if text := strings.TrimSpace(dump[start:]); text != "" {
		statements = append(statements, text)
	}
	return statements, nil
}

// Statement rewrites every string literal of one SQL statement; names and comments stay.
func (r *Rewriter) Statement(statement string) (string, error) {
	if !r.touchesEscaped(statement) {
		return statement, nil
	}
	var out strings.Builder
	out.Grow(len(statement) + 256)
	for i := 0; i < len(statement); {
		c := statement[i]
		if c != '\'' && c != '"' && c != '`' {
			out.WriteByte(c)
			i++
			continue
		}
		end, err := stringEnd(statement, i)
		if err != nil {
			return "", err
		}
		literal := statement[i:end]
		if c != '`' && r.touchesEscaped(literal) {
			literal = Quote(r.Value(unquote(literal)))
		}
		out.WriteString(literal)
		i = end
	}
	return out.String(), nil
}

// touchesEscaped is touches for text whose backslashes are doubled: it may say yes too often, never no too often.
func (r *Rewriter) touchesEscaped(text string) bool {
	for _, p := range r.pairs {
		if strings.Contains(text, p.Old) || strings.Contains(text, strings.ReplaceAll(p.Old, `\`, `\\`)) {
			return true
		}
	}
	return false
}

func lineLength(text string) int {
	if end := strings.IndexByte(text, '\n'); end >= 0 {
		return end
	}
	return len(text)
}

// stringEnd returns the index after the quoted text that begins at start.
func stringEnd(text string, start int) (int, error) {
	quote := text[start]
	for i := start + 1; i < len(text); i++ {
		switch {
		case text[i] == '\\' && quote != '`':
			i++
		case text[i] == quote:
			if i+1 < len(text) && text[i+1] == quote {
				i++
				continue
			}
			return i + 1, nil
		}
	}
	return 0, fmt.Errorf("the dump ends inside a string that begins at byte %d", start)
}

var (
	escapes   = strings.NewReplacer(`\`, `\\`, `'`, `\'`, "\n", `\n`, "\r", `\r`, "\x00", `\0`, "\x1a", `\Z`)
	unescapes = map[byte]byte{'n': '\n', 'r': '\r', '0': 0, 'Z': 0x1a, 't': '\t', 'b': '\b'}
)

// Quote writes a value as an SQL string literal.
func Quote(value string) string { return "'" + escapes.Replace(value) + "'" }

// unquote reads a literal as the server would (https://mariadb.com/kb/en/string-literals/).
func unquote(literal string) string {
	quote, body := literal[0], literal[1:len(literal)-1]
	if strings.IndexByte(body, '\\') < 0 && strings.IndexByte(body, quote) < 0 {
		return body
	}
	out := make([]byte, 0, len(body))
	for i := 0; i < len(body); i++ {
		c := body[i]
		switch {
		case c == '\\' && i+1 < len(body):
			i++
			if meant, ok := unescapes[body[i]]; ok {
				out = append(out, meant)
			} else if body[i] == '%' || body[i] == '_' {
				out = append(out, '\\', body[i])
			} else {
				out = append(out, body[i])
			}
		case c == quote && i+1 < len(body) && body[i+1] == quote:
			i++
			out = append(out, quote)
		default:
			out = append(out, c)
		}
	}
	return string(out)
}
