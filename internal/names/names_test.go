package names

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestOnlyTheBlockOfAHostsFileIsTouched(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		line := rapid.SampledFrom([]string{"127.0.0.1 localhost\n", "# a comment\n", "\n", "10.0.0.1 gate # Vessik\n", "no newline"})
		before := strings.Join(rapid.SliceOfN(line, 0, 4).Draw(t, "before"), "")
		dir, err := os.MkdirTemp("", "hosts")
		require.NoError(t, err)
		defer os.RemoveAll(dir)
		path := filepath.Join(dir, "hosts")
		require.NoError(t, os.WriteFile(path, []byte(before), 0o644))
		file, err := os.OpenFile(path, os.O_RDWR, 0)
		require.NoError(t, err)
		defer file.Close()
		text := func() string {
			read, err := os.ReadFile(path)
			require.NoError(t, err)
			return string(read)
		}
		require.NoError(t, Write(file, Block([]string{"moss.test", "apple.test"})))
		assert.True(t, strings.HasPrefix(text(), before))
		assert.Contains(t, text(), "127.0.0.1 apple.test\n::1 apple.test\n127.0.0.1 moss.test\n")
		after := "10.1.1.1 added-later\n"
		require.NoError(t, os.WriteFile(path, []byte(text()+after), 0o644))
		require.NoError(t, Write(file, Block([]string{"a-much-longer-name-than-before.test", "b.test", "c.test"})))
		assert.True(t, strings.HasPrefix(text(), before) && strings.HasSuffix(text(), after))
		assert.True(t, Finds(path, "b.test"))
		assert.NotContains(t, text(), "moss")
		require.NoError(t, Write(file, Block(nil)))
		newline := ""
		if before != "" && !strings.HasSuffix(before, "\n") {
			newline = "\n"
		}
		assert.Equal(t, before+newline+after, text(), "as it was")
	})
}

func TestATornBlockIsLeftAlone(t *testing.T) {
	path := filepath.Join(t.TempDir(), "hosts")
	torn := first + "\n127.0.0.1 a.test\n10.0.0.1 mine\n"
	require.NoError(t, os.WriteFile(path, []byte(torn), 0o644))
	file, err := os.OpenFile(path, os.O_RDWR, 0)
	require.NoError(t, err)
	defer file.Close()
	assert.ErrorIs(t, Write(file, Block([]string{"b.test"})), ErrTorn)
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, torn, string(text))
}

func TestTheResponderAnswersForSitesAlone(t *testing.T) {
	r, err := Respond(20553, 20572, func(name string) bool { return name == "moss.test" },
		func(name string) bool { return strings.HasSuffix(name, ".test") })
	require.NoError(t, err)
	defer r.Close()
	for _, network := range []string{"udp", "tcp"} {
		client := &dns.Client{Net: network}
		ask := func(name string, kind uint16) *dns.Msg {
			question := new(dns.Msg)
			question.SetQuestion(name, kind)
			reply, _, err := client.Exchange(question, "127.0.0.1:"+strconv.Itoa(r.Port))
			require.NoError(t, err)
			return reply
		}
		reply := ask("Moss.test.", dns.TypeA)
		require.Len(t, reply.Answer, 1)
		assert.Equal(t, "127.0.0.1", reply.Answer[0].(*dns.A).A.String())
		assert.Equal(t, "::1", ask("moss.test.", dns.TypeAAAA).Answer[0].(*dns.AAAA).AAAA.String())
		assert.Empty(t, ask("moss.test.", dns.TypeMX).Answer)
		assert.Equal(t, dns.RcodeNameError, ask("fern.test.", dns.TypeA).Rcode)
		assert.Equal(t, dns.RcodeRefused, ask("debian.org.", dns.TypeA).Rcode)
	}
}
