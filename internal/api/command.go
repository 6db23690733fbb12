package api

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"sync/atomic"

	"github.com/coder/websocket"
	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/command"
	"vessik/internal/core/wire"
)

// commands runs commands of sites over a WebSocket (RFC 6455): the first message is the command; then binary messages are input and
// output, whose first byte says of which stream, and text messages tell of the terminal's size, the end of the input, and the exit code.
func (a *API) commandRoutes(api huma.API, router *echo.Echo) {
	register(api, "GET", "/sites/{name}/environment", "get-environment", "What a command needs to run as one of the site's own",
		func(_ context.Context, in *SitePath) (*body[wire.Environment], error) {
			environment, err := a.Machine.Environment(in.Name)
			return &body[wire.Environment]{environment}, asProblem(err)
		})
	router.GET("/api/v1/sites/:name/command", func(c echo.Context) error {
		if _, ok := a.Machine.Registry.Site(c.Param("name")); !ok {
			writeProblem(c.Response(), noSuchSite(c.Param("name")))
			return nil
		}
		if secretOf(c.Request()) != a.Token { // a page of the console runs no commands
			return echo.NewHTTPError(http.StatusForbidden, "commands are run with: vessik run")
		}
		socket, err := websocket.Accept(c.Response(), c.Request(), nil)
		if err != nil {
			return nil // it has answered
		}
		defer socket.CloseNow()
		socket.SetReadLimit(1 << 20)
		ctx, cancel := context.WithCancel(c.Request().Context())
		defer cancel()
		var asked wire.Command
		_, text, err := socket.Read(ctx)
		if err != nil || json.Unmarshal(text, &asked) != nil {
			socket.Close(websocket.StatusUnsupportedData, "the first message is a command")
			return nil
		}
		run := &attached{ctx: ctx, cancel: cancel, socket: socket}
		run.finish(a.runCommand(run, c.Param("name"), asked))
		return nil
	})
}

// attached is a command that somebody runs over a WebSocket.
type attached struct {
	ctx    context.Context
	cancel func()
	socket *websocket.Conn
	typed  chan struct{} // where somebody wants to know of input
	room   chan struct{} // where output waits for whoever reads
	unseen atomic.Int64  // bytes of it that are not shown yet
}

// finish tells how a command ended.
func (r *attached) finish(code int, err error) {
	said := wire.CommandEvent{Exit: &code}
	if err != nil {
		said = wire.CommandEvent{Problem: err.Error()}
	}
	if text, err := json.Marshal(said); err == nil {
		r.socket.Write(r.ctx, websocket.MessageText, text)
	}
	r.socket.Close(websocket.StatusNormalClosure, "")
}

func (a *API) runCommand(run *attached, name string, asked wire.Command) (int, error) {
	in, input := io.Pipe()
	resized := make(chan command.Terminal, 1)
	defer input.Close()
	go func() {
		defer close(resized)
		for {
			kind, message, err := run.socket.Read(run.ctx)
			if err != nil { // whoever asked is gone, and so the command ends
				input.CloseWithError(io.ErrUnexpectedEOF)
				run.cancel()
				return
			}
			if kind == websocket.MessageBinary {
				if run.typed != nil {
					select {
					case run.typed <- struct{}{}:
					default: // it is being told
					}
				}
				input.Write(message)
				continue
			}
			var event wire.CommandEvent
			if json.Unmarshal(message, &event) == nil {
				run.hear(event, input, resized)
			}
		}
	}()
	return a.Command.Run(run.ctx, name, asked, command.Streams{In: in, Out: output{run, wire.StandardOutput},
		Err: output{run, wire.StandardError}, Resized: resized})
}

// hear does what is said of a running command.
func (r *attached) hear(event wire.CommandEvent, input io.Closer, resized chan<- command.Terminal) {
	if event.EndOfInput {
		input.Close()
	}
	if event.Size != nil {
		select {
		case resized <- *event.Size:
		default:
		}
	}
	if event.Seen > 0 && r.room != nil {
		r.unseen.Add(-event.Seen)
		select {
		case r.room <- struct{}{}:
		default: // it knows
		}
	}
}

// output sends what a command prints.
type output struct {
	*attached
	stream byte
}

func (o output) Write(text []byte) (int, error) {
	for o.room != nil && o.unseen.Load() > mostUnseen { // else a page would keep all that comes
		select {
		case <-o.room:
		case <-o.ctx.Done():
			return 0, o.ctx.Err()
		}
	}
	o.unseen.Add(int64(len(text)))
	if err := o.socket.Write(o.ctx, websocket.MessageBinary, append([]byte{o.stream}, text...)); err != nil {
		return 0, fmt.Errorf("send what it printed: %w", err)
	}
	return len(text), nil
}
