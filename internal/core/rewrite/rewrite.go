// Package rewrite changes addresses inside a CMS's data: in plain text, in JSON, and in PHP's serialised values, whose string
// lengths (in bytes) it mends, at any depth, also in strings that hold serialised values themselves.
package rewrite

import (
	"strconv"
	"strings"
)

// Pair is one replacement.
type Pair struct{ Old, New string }

// Addresses returns the replacements that lead from one base address to another (both without a trailing slash): as it stands,
// with JSON's escaped slashes, without the scheme, and percent-encoded.
func Addresses(from, to string) []Pair {
	bare := func(address string) string { return address[strings.Index(address, "//"):] }
	escaped := func(address string) string { return strings.ReplaceAll(address, "/", `\/`) }
	encoded := strings.NewReplacer(":", "%3A", "/", "%2F").Replace
	return []Pair{{from, to}, {escaped(from), escaped(to)}, {encoded(from), encoded(to)}, {bare(from), bare(to)}, {escaped(bare(from)), escaped(bare(to))}}
}

// Rewriter replaces the pairs; the first that matches at a place wins, and what was replaced is not looked at again.
type Rewriter struct {
	pairs    []Pair
	replacer *strings.Replacer
}

// New prepares a rewriter.
func New(pairs []Pair) *Rewriter {
	words := []string{}
	for _, p := range pairs {
		if p.Old != "" && p.Old != p.New {
			words = append(words, p.Old, p.New)
		}
	}
	return &Rewriter{pairs: pairs, replacer: strings.NewReplacer(words...)}
}

// Value rewrites one stored value.
func (r *Rewriter) Value(value string) string {
	if !r.touches(value) {
		return value
	}
	if rewritten, rest, ok := r.serialised(value); ok && rest == "" {
		return rewritten
	}
	return r.replacer.Replace(value)
}

func (r *Rewriter) touches(value string) bool {
	for _, p := range r.pairs {
		if strings.Contains(value, p.Old) {
			return true
		}
	}
	return false
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
			body = r.Value(body)
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
