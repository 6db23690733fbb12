package rewrite

import (
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestATextIsReplacedHoweverItStands(t *testing.T) {
	for _, each := range []struct{ about, from, to, value, want string }{
		{"plain", "fern", "moss", "ferns and fern", "mosss and moss"},
		{"its case", "Fern", "Moss", "fern", "fern"},
		{"serialised", "kert", "virágoskert", `a:1:{s:4:"name";s:8:"kert kert"}`, `a:1:{s:4:"name";s:8:"kert kert"}`}, // damaged: left
		{"with its length", "kert", "virágos kert", `a:1:{s:4:"kert";s:9:"kert kert";}`,
			`a:1:{s:13:"virágos kert";s:27:"virágos kert virágos kert";}`},
		{"serialised in itself", "a", "bc", `s:10:"s:3:"xax";";`, `s:11:"s:4:"xbcx";";`},
		{"JSON", `a/"b"`, `c/"ü"`, `{"x":"a/\"b\""}`, `{"x":"c/\"ü\""}`},
		{"JSON as PHP writes it", `ä/b`, `ü/c`, `["\u00e4\/b"]`, `["\u00fc\/c"]`},
		{"JSON in serialised", `é`, `ée`, `a:1:{i:0;s:10:"["\u00e9"]";}`, `a:1:{i:0;s:11:"["\u00e9e"]";}`},
		{"an escape in JSON", "n", "moss", `{"n":"\nn","x":null}`, `{"moss":"\nmoss","x":null}`},
		{"no string in JSON", "1", "2", `[1,"1"]`, `[1,"2"]`},
		{"no JSON", `a"b`, `c"d`, `{a"b}`, `{c"d}`},
		{"what it becomes holds it", "fern", "fern fern", "fern", "fern fern"},
		{"away", "fern ", "", "fern hollow", "hollow"},
	} {
		assert.Equal(t, each.want, NewText(each.from, each.to).Value(each.value), each.about)
	}
}

func TestWhatTextsAreReplacedIsCounted(t *testing.T) {
	r := NewText("fern", "moss")
	r.In("posts.title")
	r.Value("fern fern")
	r.Value("reed")
	r.Value(`a:1:{s:4:"fern"}`)
	r.In("posts.note")
	r.Leave("the table has no key", "a fern")
	tally := r.Tally()
	assert.Equal(t, map[string]TableCount{"posts.title": {Values: 1, Addresses: 2}}, tally.Tables)
	assert.Equal(t, []Left{
		{"posts.title", "a damaged serialised value", `a:1:{s:4:"fern"}`}, {"posts.note", "the table has no key", "a fern"},
	}, tally.Left)
}

// What is JSON stays so, whatever is replaced, and a value that has none of the forms has nothing to replace.
func TestJSONStaysJSON(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		some := rapid.StringOf(rapid.SampledFrom([]rune(`anu0"\/,: äé😀` + "\n")))
		text, from, to := some.Draw(t, "text"), some.Draw(t, "from"), some.Draw(t, "to")
		written, err := json.Marshal([]any{text + from, nil, 10})
		assert.NoError(t, err)
		after := NewText(from, to).Value(string(written))
		assert.True(t, json.Valid([]byte(after)), after)
		holds := false
		for _, form := range Forms(from) {
			holds = holds || newHunt(string(written), []string{form}).from(0) >= 0
		}
		assert.True(t, holds || after == string(written))
		if !strings.ContainsAny(from+text, "\u2028\u2029<>&") && utf8.ValidString(from) && from != "" {
			var got []any
			assert.NoError(t, json.Unmarshal([]byte(after), &got))
			assert.Equal(t, strings.ReplaceAll(text+from, from, to), got[0])
		}
	})
}
