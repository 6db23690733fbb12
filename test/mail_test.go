package test

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
)

// talk is PHP that speaks SMTP: $send(scheme, port, subject, how often) returns what the server said last.
const talk = `$send = function ($scheme, $port, $subject, $times = 1) {
	$context = stream_context_create(['ssl' => ['peer_name' => 'smtp.real.example']]);
	$server = stream_socket_client("$scheme://198.51.100.7:$port", $code, $message, 5, STREAM_CLIENT_CONNECT, $context);
	if (!$server) { return $message; }
	$say = function ($line = null) use ($server) {
		if ($line !== null) { fwrite($server, "$line\r\n"); }
		do { $said = fgets($server); } while ($said !== false && substr($said, 3, 1) === '-');
		return trim((string) $said);
	};
	$say(); $say('EHLO site.example');
	if ($port === 587) {
		$say('STARTTLS');
		if (!stream_socket_enable_crypto($server, true, STREAM_CRYPTO_METHOD_TLS_CLIENT)) { return 'no TLS'; }
		$say('EHLO site.example');
	}
	$say('AUTH LOGIN'); $say(base64_encode('keeper')); $say(base64_encode('any password'));
	for ($i = 0; $i < $times; $i++) {
		$say('MAIL FROM:<keeper@fernhollow.example>'); $say('RCPT TO:<visitor@real.example>'); $say('DATA');
		$said = $say("From: keeper@fernhollow.example\r\nTo: visitor@real.example\r\nSubject: $subject $i\r\n\r\nWe open at nine.\r\n.");
	}
	$say('QUIT');
	return $said;
};
`

// post has a site's PHP do something, and returns what it prints.
func post(t testing.TB, at client.Site, root, php string) string {
	t.Helper()
	script := filepath.Join(at.Folder, root, "post.php")
	require.NoError(t, os.WriteFile(script, []byte("<?php "+php), 0o644))
	defer os.Remove(script)
	_, page, _ := get(t, at.URL+"post.php")
	return page
}

// mailOf waits until so many messages of a site were caught, the newest first.
func mailOf(t *testing.T, s *service, name string, count int) (found []client.Mail) {
	t.Helper()
	require.Eventually(t, func() bool {
		var err error
		found, err = s.Mails(context.Background(), client.MailAsked{Site: name})
		require.NoError(t, err)
		return len(found) >= count
	}, 10*time.Second, 20*time.Millisecond)
	require.Len(t, found, count)
	return found
}

func TestMailIsCaughtByEveryWay(t *testing.T) {
	s := shared(t)
	if !mustStatus(t, s).Confinement.Governed {
		t.Skip("this kernel lets the service hand no sockets in")
	}
	at := s.site(t, "fernhollow")
	follow := exec.Command(program, "mail", "-f", "-json", "-home", s.home)
	var followed lockedBuffer
	follow.Stdout = &followed
	require.NoError(t, follow.Start())
	defer follow.Wait()
	defer follow.Process.Kill()

	page := post(t, at, "", talk+`echo mail('visitor@real.example', 'Opening hours', 'We open at nine.') ? 'sent' : 'not sent';
		foreach ([['tcp', 25], ['tcp', 587], ['ssl', 465], ['tcp', 2525]] as [$scheme, $port]) {
			echo ' ', $send($scheme, $port, "over $port");
		}`)
	assert.Equal(t, "sent"+strings.Repeat(" 250 2.0.0 OK: queued", 4), page)
	subjects := []string{}
	for _, m := range mailOf(t, s, "fernhollow", 5) {
		subjects = append(subjects, m.Way+" "+m.Subject+" "+strings.Join(m.To, ","))
	}
	assert.ElementsMatch(t, []string{"sendmail Opening hours visitor@real.example", "smtp over 25 0 visitor@real.example",
		"smtp over 587 0 visitor@real.example", "smtp over 465 0 visitor@real.example", "smtp over 2525 0 visitor@real.example"}, subjects)
	require.Eventually(t, func() bool { return strings.Count(followed.text(), "\n") == 5 }, 10*time.Second, 20*time.Millisecond)
	var line client.Mail
	require.NoError(t, json.Unmarshal([]byte(strings.Split(followed.text(), "\n")[0]), &line))
	assert.Equal(t, "fernhollow", line.Site)

	// A CMS's own: a reset password, and one with an attachment and HTML.
	response, err := browser.PostForm(at.URL+"wp-login.php?action=lostpassword", url.Values{"user_login": {"head-keeper"}})
	require.NoError(t, err)
	response.Body.Close()
	require.Equal(t, http.StatusFound, response.StatusCode)
	reset := mailOf(t, s, "fernhollow", 6)[0]
	assert.Contains(t, reset.Subject, "Password Reset")
	out, _, code := s.cli("mail", "-id", fmt.Sprint(reset.ID))
	assert.Zero(t, code)
	assert.Contains(t, out, at.URL+"wp-login.php?")
	assert.Contains(t, out, "is known on this machine alone")
	post(t, at, "", `require 'wp-load.php'; file_put_contents('/tmp/Árak.txt', 'nine'); wp_mail('Réka <reka@kert.example>', 'Árvíztűrő',
		'<p>Fern</p>', ['Content-Type: text/html; charset=UTF-8'], ['/tmp/Árak.txt']);`)
	letter := mailOf(t, s, "fernhollow", 7)[0]
	whole, err := s.Mail(context.Background(), letter.ID)
	require.NoError(t, err)
	assert.Equal(t, "Árvíztűrő Réka <reka@kert.example> <p>Fern</p>", strings.Join([]string{letter.Subject, letter.To[0],
		strings.TrimSpace(whole.Message.HTML)}, " "))
	require.Len(t, whole.Message.Attachments, 1)
	assert.Equal(t, "Árak.txt", whole.Message.Attachments[0].Name)
	out, _, _ = s.cli("mail", "-id", fmt.Sprint(letter.ID), "-attachment", "1")
	assert.Equal(t, "nine", out)
	out, _, _ = s.cli("mail", "-id", fmt.Sprint(letter.ID), "-source")
	assert.Contains(t, out, "Content-Type: multipart/")
	out, _, _ = s.cli("mail", "-search", "ÁRVÍZ")
	assert.Contains(t, out, "reka@kert.example")
	assert.NotContains(t, out, "Opening hours")

	readInTheConsole(t, s, at)
	_, errs, code := s.cli("mail", "-id", fmt.Sprint(letter.ID), "-drop")
	assert.Zero(t, code, errs)
	out, _, _ = s.cli("mail", "fernhollow", "-drop")
	assert.Equal(t, "7 dropped\n", out)
	left, err := os.ReadDir(filepath.Join(s.home, "mail/fernhollow/Maildir/new"))
	require.NoError(t, err)
	assert.Empty(t, left)
	for _, wrong := range [][]string{{"-drop"}, {"-source"}, {"a", "b"}, {"-id", "1", "-attachment", "-1"}} {
		_, _, code := s.cli(append([]string{"mail"}, wrong...)...)
		assert.Equal(t, 2, code, wrong)
	}
	_, errs, code = s.cli("mail", "nobody")
	assert.Equal(t, 2, code, errs)
}

// readInTheConsole has a message arrive while somebody looks: its HTML is shown, and can do nothing and load nothing.
func readInTheConsole(t *testing.T, s *service, at client.Site) {
	t.Helper()
	elsewhere, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	defer elsewhere.Close()
	asked := make(chan struct{}, 10)
	go func() {
		for connection, err := elsewhere.Accept(); err == nil; connection, err = elsewhere.Accept() {
			connection.Close()
			asked <- struct{}{}
		}
	}()
	ctx := page(t, s, 1280, 800)
	do := steps(t, ctx)
	do("the list", chromedp.Click(`//nav//a[text()="Mail"]`), chromedp.WaitVisible(`//button[contains(., "Opening hours")]`))
	post(t, at, "", fmt.Sprintf(`mail('visitor@real.example', 'Apple days', '<h1>Apple days</h1><script>top.document.title = "taken"; '.
		'fetch("http://%[1]s/")</script><img src="http://%[1]s/a.png"><link rel="stylesheet" href="http://%[1]s/s.css">',
		"Content-Type: text/html");`, elsewhere.Addr()))
	do("it arrives", chromedp.Click(`//button[contains(., "Apple days")]`), chromedp.WaitVisible(`//iframe[@title="The message"]`),
		chromedp.WaitVisible(`//dd[contains(., "it has no plain text beside its HTML")]`), chromedp.Sleep(500*time.Millisecond))
	title, err := chromedp.Run(ctx, chromedp.Evaluate[string]("document.title"))
	require.NoError(t, err)
	assert.NotEqual(t, "taken", title)
	assert.Empty(t, asked, "nothing is asked of anybody else")
	_, whole, header := get(t, fmt.Sprintf("%s/api/v1/mail/%d/page", s.Base, mailOf(t, s, "fernhollow", 8)[0].ID), "Authorization",
		"Bearer "+s.Token)
	assert.Contains(t, whole, "<h1>Apple days</h1>")
	assert.Contains(t, header.Get("Content-Security-Policy"), "sandbox allow-popups")
	assert.NotContains(t, header.Get("Content-Security-Policy"), "script")
	do("as it was sent", chromedp.Click(`//article//button[text()="source"]`),
		chromedp.WaitVisible(`//pre[contains(., "Subject: Apple days")]`))
}

// Mail comes by the thousand, follows its site's name, is bounded, and goes with the site. What a site lays where its mail is looked for is
// not followed anywhere.
func TestMailOfAHostileSite(t *testing.T) {
	s := shared(t)
	if !mustStatus(t, s).Confinement.Governed {
		t.Skip("this kernel lets the service hand no sockets in")
	}
	requirePassed(t, s.made(t, client.Request{Name: "post-office", CMS: "empty"}))
	at := s.site(t, "post-office")
	began := time.Now()
	assert.Equal(t, "250 2.0.0 OK: queued", post(t, at, "public", "set_time_limit(120); "+talk+`echo $send('tcp', 25, 'number', 1010);`))
	assert.Less(t, time.Since(began), time.Minute)
	newest, err := s.Mails(context.Background(), client.MailAsked{Site: "post-office"})
	require.NoError(t, err)
	assert.Equal(t, "number 1009", newest[0].Subject)
	kept, err := os.ReadDir(filepath.Join(s.home, "mail/post-office/Maildir/new"))
	require.NoError(t, err)
	assert.Len(t, kept, 1000, "the oldest go")

	page := post(t, at, "public", `$spool = '`+filepath.Join(s.home, "mail/post-office/spool")+`';
		symlink('`+filepath.Join(s.home, "home.json")+`', "$spool/link.eml"); posix_mkfifo("$spool/pipe.eml", 0600); mkdir("$spool/folder.eml");
		file_put_contents("$spool/empty.eml", ''); file_put_contents("$spool/last.eml", "Subject: last\n\nx");
		$large = fopen("$spool/large.eml", 'w'); for ($i = 0; $i < 26; $i++) { fwrite($large, str_repeat('x', 1 << 20)); }
		echo json_encode(scandir('`+filepath.Join(s.home, "mail/post-office")+`'));`)
	assert.NotContains(t, page, "Maildir", "it sees its spool, not what was taken")
	require.Eventually(t, func() bool {
		found, err := s.Mails(context.Background(), client.MailAsked{Site: "post-office", Search: "last"})
		require.NoError(t, err)
		return len(found) == 1
	}, 10*time.Second, 20*time.Millisecond)
	require.Eventually(t, func() bool {
		left, err := filepath.Glob(filepath.Join(s.home, "mail/post-office/spool/*.eml"))
		return err == nil && len(left) <= 1 // the folder stays
	}, 10*time.Second, 20*time.Millisecond)
	out, _, _ := s.cli("mail", "post-office", "-search", "gateway_port", "-json")
	assert.JSONEq(t, "[]", out)

	_, errs, code := s.cli("rename", "post-office", "mail-room")
	require.Zero(t, code, errs)
	out, _, _ = s.cli("mail", "mail-room", "-search", "last")
	assert.Contains(t, out, "mail-room")
	assert.Equal(t, "250 2.0.0 OK: queued", post(t, s.site(t, "mail-room"), "public", talk+`echo $send('tcp', 25, 'renamed');`))
	s.retire(t, "mail-room")
	assert.NoDirExists(t, filepath.Join(s.home, "mail/mail-room"))
	out, _, _ = s.cli("mail", "-search", "number")
	assert.NotContains(t, out, "mail-room")
}
