// Package relay lends addresses to sites whose service connects out to it: one line a service, a WebSocket (RFC 6455) over TLS, that
// carries many streams. On the first one both sides talk of addresses; each other one is a guest's connection.
package relay

import (
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
	Label string `json:"label,omitempty"` // first label of the address's host; chosen by the relay where it is empty
	Base  string `json:"base,omitempty"`  // the address that was lent
	Error string `json:"error,omitempty"`
}

// mostSaid bounds what one message takes, in bytes.
const mostSaid = 4 << 10

// talk is the first stream.
type talk struct {
	to   *json.Encoder
	from *json.Decoder
	mu   sync.Mutex
}

func talkOn(stream net.Conn) *talk {
	return &talk{to: json.NewEncoder(stream), from: json.NewDecoder(&limited{stream, mostSaid})}
}

func (t *talk) say(message said) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.to.Encode(message)
}

// hear waits for a message.
func (t *talk) hear() (message said, err error) {
	return message, t.from.Decode(&message)
}

// limited gives out a message's worth at a time: json.Decoder reads on until a value ends.
type limited struct {
	from io.Reader
	most int
}

func (l *limited) Read(text []byte) (int, error) { return l.from.Read(text[:min(len(text), l.most)]) }

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
