package rewrite

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const from, to = "http://prepared.vessik.invalid", "http://seed-exchange.localhost:20080"

func rewriter() *Rewriter { return New(from, to) }

func TestValues(t *testing.T) {
	for name, c := range map[string]struct{ in, out string }{
		"plain":              {"see " + from + "/a", "see " + to + "/a"},
		"without a scheme":   {"//prepared.vessik.invalid/x.css", "//seed-exchange.localhost:20080/x.css"},
		"JSON":               {`{"u":"http:\/\/prepared.vessik.invalid\/a"}`, `{"u":"http:\/\/seed-exchange.localhost:20080\/a"}`},
		"percent-encoded":    {"r=http%3A%2F%2Fprepared.vessik.invalid%2Fa", "r=http%3A%2F%2Fseed-exchange.localhost:20080%2Fa"},
		"serialised":         {`s:30:"` + from + `";`, `s:36:"` + to + `";`},
		"array":              {`a:2:{s:1:"u";s:30:"` + from + `";i:0;b:1;}`, `a:2:{s:1:"u";s:36:"` + to + `";i:0;b:1;}`},
		"bytes, not letters": {`s:34:"` + from + `/äö";`, `s:34:"` + to + `/äö";`},
		"object": {`O:3:"Url":1:{s:4:"` + "\x00*\x00" + `u";s:30:"` + from + `";}`,
			`O:3:"Url":1:{s:4:"` + "\x00*\x00" + `u";s:36:"` + to + `";}`},
		"serialised inside": {`a:1:{i:0;s:38:"s:30:"` + from + `";";}`, `a:1:{i:0;s:44:"s:36:"` + to + `";";}`},
		"own format":        {`C:1:"A":30:{` + from + `}`, `C:1:"A":30:{` + from + `}`},
		"damaged":           {`s:4:"no" ` + from, `s:4:"no" ` + from},
		"cut off":           {`a:2:{i:0;s:30:"` + from + `";i:1;s:90:"and the`, `a:2:{i:0;s:30:"` + from + `";i:1;s:90:"and the`},
		"HTML":              {`<a href='` + from + `'>` + from + `.</a>`, `<a href='` + to + `'>` + to + `.</a>`},
		"JSON inside JSON": {`{"a":"{\"u\":\"http:\\\/\\\/prepared.vessik.invalid\\\/a\"}"}`,
			`{"a":"{\"u\":\"http:\\\/\\\/seed-exchange.localhost:20080\\\/a\"}"}`},
		"JSON, serialised": {serialise(`{"u":"http:\/\/prepared.vessik.invalid"}`), serialise(`{"u":"http:\/\/seed-exchange.localhost:20080"}`)},
		"twice encoded":    {"http%253A%252F%252Fprepared.vessik.invalid", "http%253A%252F%252Fseed-exchange.localhost%253A20080"},
		"https":            {"https://prepared.vessik.invalid/a", to + "/a"},
		"a stored domain":  {"prepared.vessik.invalid", "seed-exchange.localhost:20080"},
		"longer host":      {from + ".evil/", from + ".evil/"},
		"host at its end": {"http://notprepared.vessik.invalid http://my.prepared.vessik.invalid",
			"http://notprepared.vessik.invalid http://my.prepared.vessik.invalid"},
		"another port":     {from + ":8080/", from + ":8080/"},
		"a mail address":   {"ines@prepared.vessik.invalid", "ines@prepared.vessik.invalid"},
		"user information": {from + "@evil.example", from + "@evil.example"},
		"another scheme":   {"ftp://prepared.vessik.invalid", "ftp://prepared.vessik.invalid"},
		"in a path":        {"/cache//prepared.vessik.invalid", "/cache//prepared.vessik.invalid"},
		"both":             {from + ".evil " + from, from + ".evil " + to},
		"untouched":        {"nothing here", "nothing here"},
	} {
		if name == "bytes, not letters" {
			c.in, c.out = fmt.Sprintf(`s:%d:"%s/äö";`, len(from)+5, from), fmt.Sprintf(`s:%d:"%s/äö";`, len(to)+5, to)
		}
		if name == "percent-encoded" {
			c.out = "r=http%3A%2F%2Fseed-exchange.localhost%3A20080%2Fa"
		}
		t.Run(name, func(t *testing.T) { assert.Equal(t, c.out, rewriter().Value(c.in)) })
	}
}

func TestWhatIsDoneAndLeftAloneIsCounted(t *testing.T) {
	r := rewriter()
	for _, statement := range []string{"INSERT INTO `k_posts` VALUES (1,'" + from + " " + from + "'),(2,'no'),(3,'" + from + ".evil')",
		"INSERT INTO k_options VALUES (_binary '" + from + "', 'a:1:{s:3:\"" + from + "')",
		"CREATE TABLE x (a INT) COMMENT='" + from + "'"} {
		_, err := r.Statement(statement)
		require.NoError(t, err)
	}
	report := r.Tally()
	assert.Equal(t, map[string]TableCount{"k_posts": {Values: 1, Addresses: 2}, "": {Values: 1, Addresses: 1}}, report.Tables)
	require.Equal(t, 3, report.LeftCount)
	assert.Equal(t, []string{"not an address of the site", "a binary value", "a damaged serialised value"},
		[]string{report.Left[0].Why, report.Left[1].Why, report.Left[2].Why})
	assert.Equal(t, "k_options", report.Left[2].Table)
	assert.Equal(t, "3 addresses in 2 values of 2 tables; 3 values left alone", report.String())
}

// A reader that gives little at a time, so that everything falls on an edge.
type drops struct{ text string }

func (d *drops) Read(p []byte) (int, error) {
	if d.text == "" {
		return 0, io.EOF
	}
	n := copy(p[:min(len(p), 3)], d.text)
	d.text = d.text[n:]
	return n, nil
}

func TestADumpIsReadHoweverItComes(t *testing.T) {
	dump := "-- head; of it\n/*!40101 SET NAMES utf8mb4 */;\nDELIMITER //\nCREATE TRIGGER t BEGIN SELECT 'a;//'; END//\nDELIMITER ;\n" +
		"DELIMITER $$\nDELIMITER ;\nINSERT INTO a VALUES ('line\nDELIMITER x\n','\\\\','it''s',\"\\\"\");\n\n# no; more\n"
	whole, err := Statements(dump)
	require.NoError(t, err)
	assert.Equal(t, []string{"-- head; of it\n/*!40101 SET NAMES utf8mb4 */", "CREATE TRIGGER t BEGIN SELECT 'a;//'; END",
		"INSERT INTO a VALUES ('line\nDELIMITER x\n','\\\\','it''s',\"\\\"\")"}, whole)
	scanner, parts := NewScanner(&drops{dump}), []string{}
	scanner.buffer = make([]byte, 0, 4)
	for {
		part, err := scanner.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		parts = append(parts, string(part))
	}
	assert.Equal(t, whole, parts)
	var out strings.Builder
	require.NoError(t, rewriter().Dump(&out, &drops{dump}))
	again, err := Statements(out.String())
	require.NoError(t, err)
	assert.Equal(t, whole, again)
}

func FuzzValue(f *testing.F) {
	for _, seed := range []string{from, serialise([]any{from, 7, serialise(from)}), `{"u":"http:\/\/prepared.vessik.invalid"}`,
		`O:1:"A":1:{s:1:"a";R:1;}` + from, "%2F%2Fprepared.vessik.invalid"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, value string) {
		r := rewriter()
		out := r.Value(value)
		if r.Tally().Tables[""].Addresses == 0 && out != value {
			t.Fatalf("%q became %q, and nothing was counted", value, out)
		}
		if back := New(to, from).Value(out); strings.Count(back, from) < strings.Count(value, from) {
			t.Fatalf("%q became %q and back %q", value, out, back)
		}
	})
}

func TestStatementsAreSplitWhereTheyEnd(t *testing.T) {
	got, err := Statements("SET x=1; -- a; comment\nINSERT INTO `a;b` VALUES ('it''s; \\'fine', \"q;\"); /* c; */ SELECT 1")
	require.NoError(t, err)
	assert.Equal(t, []string{"SET x=1", "-- a; comment\nINSERT INTO `a;b` VALUES ('it''s; \\'fine', \"q;\")", "/* c; */ SELECT 1"}, got)
	for _, broken := range []string{"SELECT 'a", "SELECT /* a"} {
		_, err := Statements(broken)
		assert.Error(t, err)
	}
}

func TestStatementsRewriteOnlyTheirStrings(t *testing.T) {
	out, err := rewriter().Statement("INSERT INTO `" + from + "` VALUES ('" + from + "/it\\'s','a\\nb',7)")
	require.NoError(t, err)
	assert.Equal(t, "INSERT INTO `"+from+"` VALUES ('"+to+"/it\\'s','a\\nb',7)", out)
}

// serialise writes a value as PHP's serialize() does.
func serialise(value any) string {
	switch v := value.(type) {
	case string:
		return fmt.Sprintf(`s:%d:"%s";`, len(v), v)
	case int:
		return fmt.Sprintf("i:%d;", v)
	case bool:
		if v {
			return "b:1;"
		}
		return "b:0;"
	case []any:
		var out strings.Builder
		fmt.Fprintf(&out, "a:%d:{", len(v))
		for i, item := range v {
			out.WriteString(serialise(i) + serialise(item))
		}
		return out.String() + "}"
	}
	return "N;"
}

// values draws nested PHP values whose strings carry addresses, odd bytes, and other serialised values.
func values() *rapid.Generator[any] {
	text := rapid.Custom(func(t *rapid.T) any {
		return strings.Join(rapid.SliceOfN(rapid.OneOf(rapid.Just(from), rapid.Just(from+"/"), rapid.String(), rapid.Just(`";s:3:"`),
			rapid.Just("}")), 0, 4).Draw(t, "parts"), "")
	})
	leaf := rapid.OneOf(text, rapid.Custom(func(t *rapid.T) any { return rapid.Int().Draw(t, "i") }),
		rapid.Custom(func(t *rapid.T) any { return rapid.Bool().Draw(t, "b") }), rapid.Just[any](nil))
	list := func(of *rapid.Generator[any]) *rapid.Generator[any] {
		return rapid.Custom(func(t *rapid.T) any { return rapid.SliceOfN(of, 0, 4).Draw(t, "items") })
	}
	inner := rapid.OneOf(leaf, list(leaf), rapid.Custom(func(t *rapid.T) any { return serialise(list(leaf).Draw(t, "inside")) }))
	return rapid.OneOf(inner, list(inner))
}

// replaced does to a value what rewriting must do to its serialised form.
func replaced(value any) any {
	switch v := value.(type) {
	case string:
		return rewriter().Value(v)
	case []any:
		out := make([]any, len(v))
		for i := range v {
			out[i] = replaced(v[i])
		}
		return out
	}
	return value
}

func TestRewritingSerialisedIsSerialisingRewritten(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		value := values().Draw(t, "value")
		if got, want := rewriter().Value(serialise(value)), serialise(replaced(value)); got != want {
			t.Fatalf("got  %q\nwant %q", got, want)
		}
	})
}

func TestLiteralsSurviveQuoting(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		value := string(rapid.SliceOf(rapid.Byte()).Draw(t, "value"))
		if got := unquote(Quote(value)); got != value {
			t.Fatalf("%q became %q", value, got)
		}
		statement := "INSERT INTO t VALUES (" + Quote(value+from) + ")"
		out, err := rewriter().Statement(statement)
		if err != nil || out != "INSERT INTO t VALUES ("+Quote(rewriter().Value(value+from))+")" {
			t.Fatalf("%q became %q (%v)", statement, out, err)
		}
		if parts, err := Statements(statement + ";\n" + statement); err != nil || len(parts) != 2 {
			t.Fatalf("split into %d (%v)", len(parts), err)
		}
	})
}

func TestRewritingThereAndBackIsNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := serialise(values().Draw(t, "value"))
		if back := New(to, from).Value(rewriter().Value(text)); back != text {
			t.Fatalf("%q became %q", text, back)
		}
	})
}

func TestSubDomainsFollowWhereAsked(t *testing.T) {
	for before, after := range map[string]string{
		"http://north.moss.localhost:20080/x":                             "http://north.fern.test/x",
		"//a.b.moss.localhost:20080":                                      "//a.b.fern.test",
		`http:\/\/north.moss.localhost:20080\/`:                           `http:\/\/north.fern.test\/`,
		"http%3A%2F%2Fnorth.moss.localhost%3A20080%2F":                    "http%3A%2F%2Fnorth.fern.test%2F",
		"north.moss.localhost:20080":                                      "north.fern.test",
		"moss.localhost:20080":                                            "fern.test",
		"http://moss.localhost:20080/ on mail@north.moss.localhost:20080": "http://fern.test/ on mail@north.moss.localhost:20080",
		"http://north.moss.localhost:20080.evil/":                         "http://north.moss.localhost:20080.evil/",
		"http://notmoss.localhost:20080/":                                 "http://notmoss.localhost:20080/",
		"http://-.moss.localhost:20080/":                                  "http://-.moss.localhost:20080/",
	} {
		r := New("http://moss.localhost:20080", "http://fern.test")
		r.SubDomains = true
		assert.Equal(t, after, r.Value(before))
	}
	r := New("http://moss.localhost:20080", "http://fern.test")
	assert.Equal(t, "http://north.moss.localhost:20080/", r.Value("http://north.moss.localhost:20080/"), "another site's, as far as is known")
}

// What stands in a dump with its escapes is rewritten as the value that a server reads out of it.
func TestAnEscapedLiteralIsRewrittenAsItsValue(t *testing.T) {
	piece := rapid.SampledFrom([]string{"\n", "'", `\`, `"`, "n", "t", "é", "%", "\x00", " ", "http://moss.localhost:20080",
		"https://moss.localhost:20080/x", "//moss.localhost:20080", `http:\/\/moss.localhost:20080\/`, `\\/\\/moss.localhost:20080`,
		"moss.localhost", "moss.localhost:20080", "http%3A%2F%2Fmoss.localhost%3A20080", "north.", "a", "s:", "i:1;"})
	rapid.Check(t, func(t *rapid.T) {
		value := strings.Join(rapid.SliceOfN(piece, 1, 8).Draw(t, "pieces"), "")
		subs := rapid.Bool().Draw(t, "sub-domains")
		as := func() *Rewriter {
			r := New("http://moss.localhost:20080", "http://fern.test")
			r.SubDomains = subs
			return r
		}
		one, other := as(), as()
		statement, err := one.Statement("INSERT INTO `t` VALUES (" + Quote(value) + ")")
		require.NoError(t, err)
		literal := strings.TrimSuffix(strings.TrimPrefix(statement, "INSERT INTO `t` VALUES ("), ")")
		other.table = "t"
		assert.Equal(t, other.Value(value), unquote(literal))
		assert.Equal(t, other.Tally().Tables, one.Tally().Tables)
	})
}

func TestADumpOfManyPortionsStaysInOrder(t *testing.T) {
	var out bytes.Buffer
	r := New("http://orchard-days.localhost:20080", "http://apple-days.test")
	text := dense(5)
	require.NoError(t, r.Dump(&out, bytes.NewReader(text)))
	wanted, err := New("http://orchard-days.localhost:20080", "http://apple-days.test").Statement(string(text))
	require.NoError(t, err)
	assert.Equal(t, len(wanted), out.Len())
	assert.Equal(t, wanted, out.String())
	rows := bytes.Count(text, []byte("a:2:{"))
	assert.Equal(t, TableCount{Values: 2 * rows, Addresses: 2 * rows}, r.Tally().Tables["wp_posts"])
	assert.Error(t, r.Dump(&out, strings.NewReader("INSERT INTO a VALUES ('"+string(text))))
}

// However a dump is put together, and in whatever pieces it comes: going through it whole is going through its statements one by one.
func TestADumpIsItsStatements(t *testing.T) {
	pieces := rapid.SliceOfN(rapid.SampledFrom([]string{"INSERT INTO `a` VALUES (", "'", "\"", "`", "\\", "''", "\\'", ",", ")", ";", "\n",
		"-- ", "--\n", "#", "/*", "/*!", "*/", " ", "x", "_binary ", from, "prepared.vessik.invalid",
		`s:30:"` + from + `";`, "'" + from + "'", "/*! '" + from + "' */"}), 0, 40)
	rapid.Check(t, func(t *rapid.T) {
		dump := strings.Join(pieces.Draw(t, "pieces"), "")
		statements, err := Statements(dump)
		one := rewriter()
		var out strings.Builder
		if err != nil {
			assert.Error(t, rewriter().Dump(&out, strings.NewReader(dump)))
			return
		}
		wanted := []string{}
		for _, statement := range statements {
			changed, err := one.Statement(statement)
			if err != nil { // a quote is left open in a comment that is code
				assert.Error(t, rewriter().Dump(&out, strings.NewReader(dump)))
				return
			}
			wanted = append(wanted, changed)
		}
		whole := rewriter()
		require.NoError(t, whole.Dump(&out, &drops{dump}))
		assert.Equal(t, one.Tally(), whole.Tally())
		again, err := Statements(out.String())
		require.NoError(t, err, out.String())
		assert.Equal(t, wanted, again)
	})
}
