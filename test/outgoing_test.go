package test

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
)

// asks is a plugin that asks three hosts in every way that PHP has, and one mail server.
const asks = `<?php
function ask($address) { $s = @stream_socket_client($address, $n, $why, 2); return $s ? 'open' : 'no'; }
function curl($address) { $c = curl_init($address); curl_setopt_array($c, [CURLOPT_RETURNTRANSFER => true, CURLOPT_TIMEOUT => 2,
	CURLOPT_PROXY => '']); return curl_exec($c) === false ? 'no' : 'open'; }
echo ask('tcp://127.0.0.1:PORT'), curl('http://127.0.0.1:PORT/'), ' ', ask('tcp://198.51.100.7:8080'), curl('http://198.51.100.7:8080/'),
	' ', ask('tcp://api.fernhollow.example:443'), ' ', ask('tcp://198.51.100.9:587'), ' ', ask('tcp://[::ffff:127.0.0.1]:PORT');
`

// line is what the ledger says of one host and port: asked, refused, failed, caught.
func line(asked []client.Outgoing, host string, port int) string {
	for _, o := range asked {
		if (o.Host == host || o.Address == host) && o.Port == port {
			return fmt.Sprint(o.Count, o.Refused, o.Failed, o.Caught)
		}
	}
	return "not asked"
}

func TestWhatASiteAsksOfOtherMachines(t *testing.T) {
	s := shared(t)
	if !mustStatus(t, s).Confinement.Governed {
		t.Skip("this kernel lets the service hand no sockets in")
	}
	elsewhere, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	defer elsewhere.Close()
	go func() {
		for {
			visitor, err := elsewhere.Accept()
			if err != nil {
				return
			}
			fmt.Fprint(visitor, "HTTP/1.1 200 OK\r\nContent-Length: 4\r\nConnection: close\r\n\r\nfern")
			visitor.Close()
		}
	}()
	port := elsewhere.Addr().(*net.TCPAddr).Port
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days"}))
	defer s.retire(t, "orchard-days")
	at := s.site(t, "orchard-days")
	require.NoError(t, s.ForgetOutgoing(context.Background(), "orchard-days"))
	plugin := strings.ReplaceAll(asks, "PORT", strconv.Itoa(port))
	require.NoError(t, os.WriteFile(filepath.Join(at.Folder, "asks.php"), []byte(plugin), 0o644))
	ask := func() string { _, text, _ := get(t, at.URL+"asks.php"); return text }
	ledger := func() []client.Outgoing {
		all, err := s.Outgoing(context.Background(), "orchard-days")
		require.NoError(t, err)
		return all
	}

	assert.Equal(t, "nono nono no open no", ask(), "what is usual")
	assert.Equal(t, []string{"3 3 0 0", "2 2 0 0", "1 0 0 1"}, []string{line(ledger(), "127.0.0.1", port),
		line(ledger(), "198.51.100.7", 8080), line(ledger(), "198.51.100.9", 587)})
	assert.Regexp(t, `^[1-9] 0 [1-9] 0$`, line(ledger(), "api.fernhollow.example", 0), "its name is looked for")
	_, errs, code := s.cli("settings", "orchard-days", "-outgoing-allow", "localhost:"+strconv.Itoa(port), "-outgoing-refuse",
		"*.fernhollow.example")
	require.Zero(t, code, errs)
	require.NoError(t, s.ForgetOutgoing(context.Background(), "orchard-days"))
	loaded, err := s.OutgoingPage(context.Background(), "orchard-days", "/asks.php")
	require.NoError(t, err)
	assert.Equal(t, 200, loaded.Status)
	assert.Equal(t, []string{"3 0 0 0", "1 1 0 0"}, []string{line(loaded.Asked, "127.0.0.1", port),
		line(loaded.Asked, "api.fernhollow.example", 0)})
	assert.Equal(t, "openopen nono no open open", ask())
	assert.Equal(t, "6 0 0 0", line(ledger(), "127.0.0.1", port))
	out, errs, code := s.cli("outgoing", "orchard-days")
	require.Zero(t, code, errs)
	assert.Contains(t, out, "may be asked by HTTP and HTTPS; also localhost:"+strconv.Itoa(port)+"; in no case *.fernhollow.example.")
	assert.Regexp(t, `(?m)^- +127\.0\.0\.1 +`+strconv.Itoa(port)+` +6 +- +- +- +1 ms`, out)
	out, _, _ = s.cli("outgoing", "orchard-days", "-page", "/asks.php")
	assert.Regexp(t, `/asks.php answered 200 in \d+ ms`, out)

	// Neither the service nor a neighbour is opened by what a setting says.
	status := mustStatus(t, s)
	api, err := strconv.Atoi(status.API[strings.LastIndexByte(status.API, ':')+1:])
	require.NoError(t, err)
	neighbour := s.site(t, "fernhollow")
	_, errs, code = s.cli("settings", "orchard-days", "-outgoing", "open", "-outgoing-allow", "127.0.0.0/8")
	require.Zero(t, code, errs)
	for _, port := range []int{api, neighbour.Port} {
		_, errs, code = s.cli("settings", "orchard-days", "-outgoing-allow", fmt.Sprintf("127.0.0.1:%d", port))
		assert.Equal(t, 2, code)
		assert.Contains(t, errs, "is opened to no site")
		said := post(t, at, "", fmt.Sprintf(`echo @fsockopen('127.0.0.1', %d, $n, $why, 2) ? 'open' : 'no';`, port))
		assert.Equal(t, "no", said, port)
	}
	for _, wrong := range [][]string{{"-page", "asks.php"}, {"-page", "/a b"}, {"-forget", "-page", "/"}} {
		_, _, code := s.cli(append([]string{"outgoing", "orchard-days"}, wrong...)...)
		assert.Equal(t, 2, code, wrong)
	}
	_, errs, code = s.cli("settings", "orchard-days", "-outgoing", "shut")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "web, open or closed")
	_, errs, code = s.cli("new", "moss-archive", "-outgoing", "shut", "-dry-run")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "outgoing")
}
