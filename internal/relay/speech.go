// Package relay lends addresses to sites whose service connects out to it: one line a service, a WebSocket (RFC 6455) over TLS, that
// carries many streams. On the first one both sides talk of addresses; each other one is a guest's connection.
package relay

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"net"
	"sync"
	"time"

	"github.com/coder/websocket"
	"github.com/hashicorp/yamux"
)

// LinePath is where services connect to.
const LinePath = "/line"

// said is one message on the first stream: what a service asks, and what the relay answers.
type said struct {
	ID    int    `json:"id"`
	Lend  bool   `json:"lend,omitempty"`  // an address is asked for
	End   bool   `json:"end,omitempty"`   // one is given back
	Bye   bool   `json:"bye,omitempty"`   // all are: the service ends
	Label string `json:"label,omitempty"` // first label of the address's host; chosen by the relay where it is empty
	Base  string `json:"base,omitempty"`  // the address that was lent
	Error string `json:"error,omitempty"`
}

// mostSaid bounds what one message takes, in bytes.
const mostSaid = 4 << 10

// talk is the first stream: a message is a line of JSON.
type talk struct {
	stream net.Conn
	from   *bufio.Reader
	mu     sync.Mutex
}

func talkOn(stream net.Conn) *talk {
	return &talk{stream: stream, from: bufio.NewReaderSize(stream, mostSaid)}
}

func (t *talk) say(message said) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	return json.NewEncoder(t.stream).Encode(message)
}

// hear waits for a message; one that is longer than any can be is an error.
func (t *talk) hear() (message said, err error) {
	line, err := t.from.ReadSlice('\n')
	if err != nil {
		return message, err
	}
	return message, json.Unmarshal(line, &message)
}

const (
	beat    = 15 * time.Second // between two signs of life of a line
	patient = 10 * time.Second // for what is written
)

// settings of both ends of a line.
func settings() *yamux.Config {
	c := yamux.DefaultConfig()
	c.KeepAliveInterval, c.ConnectionWriteTimeout = beat, patient
	c.StreamOpenTimeout, c.StreamCloseTimeout = patient, time.Minute
	c.LogOutput = io.Discard
	return c
}

// overSocket is a WebSocket as a connection.
func overSocket(ctx context.Context, socket *websocket.Conn) net.Conn {
	socket.SetReadLimit(-1) // messages are pieces of a stream, and none is kept whole
	return websocket.NetConn(ctx, socket, websocket.MessageBinary)
}
