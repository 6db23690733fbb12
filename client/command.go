package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"github.com/coder/websocket"

	"vessik/internal/core/wire"
)

// What a command is asked with, and the size of a terminal.
type (
	Command      = wire.Command
	TerminalSize = wire.TerminalSize
)

// Run runs a command as one of a site's own and returns its exit code. resized tells of the terminal's size; nil where there is none.
func (c *Client) Run(ctx context.Context, name string, command Command, in io.Reader, out, errs io.Writer,
	resized <-chan TerminalSize) (int, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	address := "ws" + strings.TrimPrefix(c.Base, "http") + "/api/v1/sites/" + url.PathEscape(name) + "/command"
	socket, response, err := websocket.Dial(ctx, address,
		&websocket.DialOptions{HTTPHeader: http.Header{"Authorization": {"Bearer " + c.Token}}})
	if err != nil && response != nil && response.Body != nil {
		return 0, refusalOf(response)
	}
	if err != nil {
		return 0, fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	defer socket.CloseNow()
	socket.SetReadLimit(1 << 20)
	send := func(message any) error {
		text, err := json.Marshal(message)
		if err != nil {
			return err
		}
		return socket.Write(ctx, websocket.MessageText, text)
	}
	if err := send(command); err != nil {
		return 0, err
	}
	go func() {
		buffer := make([]byte, 32<<10)
		for {
			n, err := in.Read(buffer)
			if n > 0 && socket.Write(ctx, websocket.MessageBinary, buffer[:n]) != nil {
				return
			}
			if err != nil {
				send(wire.CommandEvent{EndOfInput: true})
				return
			}
		}
	}()
	go func() {
		for size := range resized {
			send(wire.CommandEvent{Size: &size})
		}
	}()
	for {
		kind, message, err := socket.Read(ctx)
		if err != nil {
			return 0, fmt.Errorf("the service no longer answers: %w", err)
		}
		if kind == websocket.MessageBinary && len(message) > 0 {
			to := out
			if message[0] == wire.StandardError {
				to = errs
			}
			to.Write(message[1:])
			continue
		}
		var event wire.CommandEvent
		if json.Unmarshal(message, &event) == nil && event.Problem != "" {
			return 0, errors.New(event.Problem)
		}
		if event.Exit != nil {
			return *event.Exit, nil
		}
	}
}
