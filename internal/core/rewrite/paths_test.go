package rewrite

import (
	"bytes"
	"encoding/base64"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const oldFolder, newFolder = "/home/ines/sites/orchard-days", "/srv/moved sites/apple"

func mover() *Rewriter {
	r := rewriter()
	r.Folders(oldFolder, newFolder)
	return r
}

func TestPathsBelowTheSitesFolderFollowIt(t *testing.T) {
	for in, out := range map[string]string{
		oldFolder: newFolder,
		"see " + oldFolder + "/wp-content/a.jpg, or " + oldFolder + ".": "see " + newFolder + "/wp-content/a.jpg, or " + newFolder + ".",
		"file://" + oldFolder + "/x":                                    "file://" + newFolder + "/x",
		`{"f":"\/home\/ines\/sites\/orchard-days\/a"}`:                  `{"f":"\/srv\/moved sites\/apple\/a"}`,
		"%2Fhome%2Fines%2Fsites%2Forchard-days%2Fa":                     "%2Fsrv%2Fmoved sites%2Fapple%2Fa",
		serialise(oldFolder + "/äö"):                                    serialise(newFolder + "/äö"),
		serialise(serialise(oldFolder)):                                 serialise(serialise(newFolder)),
		from + " in " + oldFolder:                                       to + " in " + newFolder,
		// and what is another folder stays
		oldFolder + "-2/a": oldFolder + "-2/a", oldFolder + ".zip": oldFolder + ".zip", "/backup" + oldFolder: "/backup" + oldFolder,
		"sites/orchard-days": "sites/orchard-days", "/home/ines/orchard-days": "/home/ines/orchard-days", "orchard-days": "orchard-days",
	} {
		assert.Equal(t, out, mover().Value(in))
		quoted := Quote(in)
		r := mover()
		statement, err := r.Statement("INSERT INTO `k_posts` VALUES (" + quoted + ")")
		require.NoError(t, err)
		assert.Equal(t, "INSERT INTO `k_posts` VALUES ("+Quote(out)+")", strings.ReplaceAll(statement, `\"`, `"`))
		assert.Equal(t, in != out, r.Tally().Tables["k_posts"].Paths > 0)
	}
	still := New(from, from)
	still.Folders(oldFolder, newFolder)
	assert.Equal(t, from+" "+newFolder, still.Value(from+" "+oldFolder), "the address stays")
	assert.Equal(t, "0 addresses and 1 path in 1 value of 1 table", still.Tally().String())
}

func TestAddressesInBase64AreCounted(t *testing.T) {
	for _, before := range []string{"", "x", "xy", `{"u":"`} {
		value := base64.StdEncoding.EncodeToString([]byte(before + from + "/a and more"))
		var out bytes.Buffer
		r := mover()
		require.NoError(t, r.Dump(&out, strings.NewReader("INSERT INTO `k_options` VALUES ('builder','"+value+"');\n")))
		assert.Contains(t, out.String(), value)
		tally := r.Tally()
		require.Equal(t, 1, tally.LeftCount, before)
		assert.Equal(t, "encoded in base64", tally.Left[0].Why)
		assert.Equal(t, "k_options", tally.Left[0].Table)
	}
}

func TestAnyAddressCanBeAskedFor(t *testing.T) {
	for _, host := range []string{"", "http://a", "http://ab.c", "no address", "http://[::1]:80"} {
		r := New(host, to)
		r.Folders("/x/y", "/x/z")
		statement, err := r.Statement("INSERT INTO `k` VALUES ('/x/y')")
		require.NoError(t, err)
		assert.Contains(t, statement, "'/x/z'", host)
	}
}

func TestAFinderFindsWhatStandsThere(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		letters := rapid.StringMatching(`[ab/]{0,60}`)
		texts := rapid.SliceOfN(rapid.StringMatching(`[ab/]{3,12}`), 1, 5).Draw(t, "texts")
		text := letters.Draw(t, "text")
		is := false
		for _, each := range texts {
			is = is || strings.Contains(text, each)
		}
		assert.Equal(t, is, newFinder(texts).in(text))
		found, at := []int{}, 0
		for hunt := newHunt(text, texts); ; at++ {
			if at = hunt.from(at); at < 0 {
				break
			}
			found = append(found, at)
		}
		wanted := []int{}
		for at := range text {
			for _, each := range texts {
				if strings.HasPrefix(text[at:], each) {
					wanted = append(wanted, at)
					break
				}
			}
		}
		assert.Equal(t, wanted, found)
	})
}
