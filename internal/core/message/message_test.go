package message

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func read(t *testing.T, text string) Content {
	m, err := Read(strings.NewReader(strings.ReplaceAll(text, "\n", "\r\n")))
	require.NoError(t, err)
	return m
}

func TestAMessageInOtherScriptsIsRead(t *testing.T) {
	m := read(t, `From: =?utf-8?Q?G=C3=A4rtnerei_Moos?= <garten@moos.example>
To: "Kovács, Réka" <reka@kert.example>, tobias@fernhollow.example
Cc: =?iso-8859-1?Q?In=E9s?= <ines@fernhollow.example>
Subject: =?utf-8?B?w4TDtsO8?=
Date: Sat, 28 Nov 2026 12:00:00 +0100
Message-ID: <1@moos.example>
MIME-Version: 1.0
Content-Type: multipart/mixed; boundary=outer

--outer
Content-Type: multipart/alternative; boundary=inner

--inner
Content-Type: text/plain; charset=iso-8859-2
Content-Transfer-Encoding: quoted-printable

=C1rv=EDzt=FBr=F5
--inner
Content-Type: text/html; charset=utf-8

<p>Fern <img src="cid:leaf"></p>
--inner--
--outer
Content-Type: image/png; name="leaf.png"
Content-ID: <leaf>
Content-Transfer-Encoding: base64

AAEC
--outer
Content-Type: application/pdf
Content-Disposition: attachment; filename*=utf-8''%C3%BCber%20Moos.pdf

%PDF
--outer--
`)
	assert.Equal(t, "Gärtnerei Moos <garten@moos.example>", m.From)
	assert.Equal(t, []string{"Kovács, Réka <reka@kert.example>", "tobias@fernhollow.example", "Inés <ines@fernhollow.example>"}, m.To)
	assert.Equal(t, "Árvíztűrő", strings.TrimSpace(m.Text))
	assert.Contains(t, m.HTML, "Fern")
	assert.Equal(t, time.Date(2026, 11, 28, 11, 0, 0, 0, time.UTC), m.Date.UTC())
	require.Len(t, m.Attachments, 2)
	assert.Equal(t, Attachment{"leaf.png", "image/png", 3, "leaf", []byte{0, 1, 2}}, m.Attachments[0])
	assert.Equal(t, "über Moos.pdf", m.Attachments[1].Name)
	assert.Contains(t, m.Page(), `<img src="data:image/png;base64,AAEC">`)
	assert.Empty(t, m.Remarks)
}

func TestWhatAMailProgramComplainsAboutIsSaid(t *testing.T) {
	m := read(t, "From: wordpress@fern.localhost\nSubject: Fern\nDate: yesterday\nContent-Type: text/html\n\n"+
		"<a href='http://fern.localhost:20080/a'>x</a><a href=http://fern.localhost/b>y</a>\n")
	assert.Equal(t, []string{"it has no Message-Id", "its Date cannot be read: yesterday", "it has no plain text beside its HTML",
		"its sender's host, fern.localhost, is known on this machine alone: others would refuse it",
		"it links to fern.localhost, which leads nowhere on another machine"}, m.Remarks)
	m = read(t, "Subject: =?nonsense?Q?x?=\nContent-Type: text/plain; charset=nonsense\n\nsee (https://moss.test/x)\n")
	assert.Equal(t, "see (https://moss.test/x)", strings.TrimSpace(m.Text))
	assert.Contains(t, m.Remarks, "it links to moss.test, which leads nowhere on another machine")
}

func TestHostileMessagesAreBorne(t *testing.T) {
	deep := "Content-Type: multipart/mixed; boundary=b\n\n" + strings.Repeat("--b\nContent-Type: multipart/mixed; boundary=b\n\n", 500)
	m := read(t, deep)
	assert.LessOrEqual(t, len(m.Attachments), partsMost)
	many := "Content-Type: multipart/mixed; boundary=b\n\n" + strings.Repeat("--b\nContent-Type: a/b\n\nx\n", 5000) + "--b--\n"
	m = read(t, many)
	assert.Contains(t, strings.Join(m.Remarks, "\n"), "more parts than are looked at")
	image := Attachment{Type: "image/png", Bytes: 1 << 20, ID: "a", Content: make([]byte, 1<<20)}
	m = Content{HTML: strings.Repeat("<img src=cid:a>", 10000), Attachments: []Attachment{image}}
	assert.Equal(t, m.HTML, m.Page(), "one image is not shown ten thousand times")
	_, err := Read(strings.NewReader("no head\nat all"))
	require.Error(t, err)
}
