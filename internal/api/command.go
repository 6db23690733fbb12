package api

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"

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
		code, err := a.runCommand(ctx, cancel, socket, c.Param("name"), asked)
		said := wire.CommandEvent{Exit: &code}
		if err != nil {
			said = wire.CommandEvent{Problem: err.Error()}
		}
		if text, err := json.Marshal(said); err == nil {
			socket.Write(ctx, websocket.MessageText, text)
		}
		socket.Close(websocket.StatusNormalClosure, "")
		return nil
	})
}

func (a *API) runCommand(ctx context.Context, cancel func(), socket *websocket.Conn, name string, asked wire.Command) (int, error) {
	in, input := io.Pipe()
	resized := make(chan command.Terminal, 1)
	defer input.Close()
	go func() {
		defer close(resized)
		for {
			kind, message, err := socket.Read(ctx)
			if err != nil { // whoever asked is gone, and so the command ends
				input.CloseWithError(io.ErrUnexpectedEOF)
				cancel()
				return
			}
			if kind == websocket.MessageBinary {
				input.Write(message)
				continue
			}
			var event wire.CommandEvent
			if json.Unmarshal(message, &event) != nil {
				continue
			}
			if event.EndOfInput {
				input.Close()
			}
			if event.Size != nil {
				select {
				case resized <- *event.Size:
				default:
				}
			}
		}
	}()
	return a.Command.Run(ctx, name, asked, command.Streams{In: in, Out: output{ctx, socket, wire.StandardOutput},
		Err: output{ctx, socket, wire.StandardError}, Resized: resized})
}

// output sends what a command prints.
type output struct {
	ctx    context.Context
	socket *websocket.Conn
	stream byte
}

func (o output) Write(text []byte) (int, error) {
	if err := o.socket.Write(o.ctx, websocket.MessageBinary, append([]byte{o.stream}, text...)); err != nil {
		return 0, fmt.Errorf("send what it printed: %w", err)
	}
	return len(text), nil
}
