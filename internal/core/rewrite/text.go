package rewrite

import (
	"bytes"
	"encoding/json"
	"slices"
	"strings"
	"unicode/utf16"
)

// form is one way in which a text stands in a value, and what takes its place there.
type form struct{ from, to string }

// NewText prepares a rewriter that puts one text in the place of another, wherever and however it stands: in plain text, in strings of
// PHP's serialised values, whose lengths it mends, and in JSON, as JSON writes it. Upper and lower case are told apart.
func NewText(from, to string) *Rewriter {
	r := &Rewriter{from: address{host: from}, still: from == to || from == "", report: Tally{Tables: map[string]TableCount{}, Left: []Left{}}}
	r.forms = []form{{from, to}}
	for _, way := range waysOfJSON {
		f := form{inJSON(from, way), inJSON(to, way)}
		if !slices.ContainsFunc(r.forms[1:], func(other form) bool { return other.from == f.from }) {
			r.forms = append(r.forms, f)
		}
	}
	return r
}

// Forms are all ways in which a text may stand in a value, as NewText looks for it: without any of them, nothing is to be replaced.
func Forms(text string) (all []string) {
	all = []string{text}
	for _, way := range waysOfJSON {
		if written := inJSON(text, way); !slices.Contains(all, written) {
			all = append(all, written)
		}
	}
	return all
}

// Leave counts a value that is left alone, in the place that In named.
func (r *Rewriter) Leave(why, value string) { r.leave(why, value, r.where(value)) }

// wayOfJSON is how a program writes JSON: with slashes escaped, as PHP does, and in ASCII alone.
type wayOfJSON struct{ slashes, ascii bool }

var waysOfJSON = []wayOfJSON{{false, false}, {false, true}, {true, false}, {true, true}}

// In has what follows be counted for a place, such as a column of a table.
func (r *Rewriter) In(place string) { r.table = place }

// inJSON is a text as it stands between the quotes of a JSON string.
func inJSON(text string, way wayOfJSON) string {
	var out bytes.Buffer
	writer := json.NewEncoder(&out)
	writer.SetEscapeHTML(false)
	if writer.Encode(text) != nil {
		return text // a string always can be
	}
	written := strings.TrimSuffix(strings.TrimPrefix(strings.TrimSuffix(out.String(), "\n"), `"`), `"`)
	if way.slashes {
		written = strings.ReplaceAll(written, "/", `\/`)
	}
	if !way.ascii {
		return written
	}
	plain := []byte{}
	for _, c := range written {
		if c < 0x80 {
			plain = append(plain, byte(c))
			continue
		}
		for _, unit := range utf16.AppendRune(nil, c) {
			const digits = "0123456789abcdef"
			plain = append(plain, '\\', 'u', digits[unit>>12], digits[unit>>8&15], digits[unit>>4&15], digits[unit&15])
		}
	}
	return string(plain)
}

// holdsForm tells whether a text may have the text that is replaced.
func (r *Rewriter) holdsForm(text string) bool {
	return !r.still && slices.ContainsFunc(r.forms, func(f form) bool { return strings.Contains(text, f.from) })
}

// appendForms is appendText where a text is replaced and not an address.
func (r *Rewriter) appendForms(out *[]byte, text string) (replaced int) {
	var written []byte
	if begin := strings.TrimLeft(text, " \t\r\n"); begin != "" && strings.IndexByte(`{["`, begin[0]) >= 0 && json.Valid([]byte(text)) {
		written, replaced = r.inStrings(text)
	} else if replaced = strings.Count(text, r.forms[0].from); replaced > 0 {
		written = []byte(strings.ReplaceAll(text, r.forms[0].from, r.forms[0].to))
	}
	if r.count(replaced); replaced > 0 {
		*out = append(*out, written...)
	}
	return replaced
}

// inStrings is a JSON text in whose strings the text is replaced, where it neither begins nor ends inside an escape.
func (r *Rewriter) inStrings(text string) (written []byte, replaced int) {
	inside := false
	for at := 0; at < len(text); {
		if inside {
			if i := slices.IndexFunc(r.forms[1:], func(f form) bool { return strings.HasPrefix(text[at:], f.from) }); i >= 0 {
				written = append(written, r.forms[1+i].to...)
				at += len(r.forms[1+i].from)
				replaced++
				continue
			}
		}
		length := 1
		switch {
		case text[at] == '"':
			inside = !inside
		case inside && strings.HasPrefix(text[at:], `\u`):
			length = len(`\u0000`)
		case inside && text[at] == '\\':
			length = len(`\n`)
		}
		written = append(written, text[at:at+length]...)
		at += length
	}
	return written, replaced
}
