package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"strings"
	"time"

	"vessik/client"
	"vessik/internal/home"
)

const (
	demoDomain = "guests.localhost" // below which the demo's relay lends addresses
	demoShown  = "orchard-days"     // the site that guests are invited to
)

// besideRelay runs a relay beside the demo until end is called, has the demo join it, and invites to a site.
func besideRelay(ctx context.Context, c *call, place home.Home) (end func(), err error) {
	api, err := c.client()
	if err != nil {
		return func() {}, err
	}
	at, host, err := relayPort(ctx, api)
	if err != nil {
		return func() {}, err
	}
	relay := home.Home{Dir: place.Path("relay"), Engines: place.Engines}
	said, told, err := os.Pipe()
	if err != nil {
		return func() {}, err
	}
	defer said.Close()
	child, err := startProgram(relay, told, "relay", "-domain", demoDomain, "-listen", at)
	told.Close()
	if err != nil {
		return func() {}, err
	}
	line := make([]byte, 1)
	if _, err := io.ReadFull(said, line); err != nil { // it says that it is there
		defer child.stop()
		return func() {}, fmt.Errorf("the relay did not start: %w", child.failed())
	}
	if host == "" {
		if err := joinDemo(ctx, api, relay.Dir, at); err != nil {
			defer child.stop()
			return func() {}, err
		}
	}
	fmt.Fprintln(c.out, "\nA guest is invited, by a relay that runs beside the demo and stands for one that anybody can reach:")
	return child.stop, invitedWithin(ctx, c, place)
}

// invitedWithin invites once the line to the relay stands, which takes a moment.
func invitedWithin(ctx context.Context, c *call, place home.Home) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	return itself(ctx, c, place, "invite", demoShown, "-note", "the choir looks at it")
}

// relayPort is where the demo's relay listens: where it did when the demo joined it, or at a free port; host is empty for one that it
// did not join.
func relayPort(ctx context.Context, api *client.Client) (at, host string, err error) {
	joined, err := api.Relays(ctx)
	if err != nil {
		return "", "", err
	}
	for _, r := range joined {
		if port, ours := strings.CutPrefix(r.Host, demoDomain+":"); ours {
			return "127.0.0.1:" + port, r.Host, nil
		}
	}
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", "", err
	}
	return free.Addr().String(), "", free.Close()
}

// joinDemo makes an account at the demo's relay, and has the demo use it.
func joinDemo(ctx context.Context, api *client.Client, dir, at string) error {
	program, err := os.Executable()
	if err != nil {
		return err
	}
	token := func(what string) ([]byte, error) {
		return exec.CommandContext(ctx, program, "relay", "token", what, "demo", "-home", dir).Output()
	}
	if _, err := token("drop"); err != nil && ctx.Err() != nil { // of a demo whose home was removed alone
		return err
	}
	made, err := token("add")
	if err != nil {
		return fmt.Errorf("make an account at the relay: %w", err)
	}
	_, port, _ := strings.Cut(at, ":")
	_, err = api.JoinRelay(ctx, client.JoinRelay{URL: "https://" + demoDomain + ":" + port, Token: strings.TrimSpace(string(made))})
	return err
}

// itself runs a command of Vessik's own, and shows it.
func itself(ctx context.Context, c *call, place home.Home, arguments ...string) error {
	program, err := os.Executable()
	if err != nil {
		return err
	}
	shown := ""
	for _, each := range arguments {
		if strings.Contains(each, " ") {
			each = "'" + each + "'"
		}
		shown += " " + each
	}
	if i := strings.Index(shown, " -- "); i > 0 {
		shown = shown[:i] + " -- php -r '…'"
	}
	fmt.Fprintf(c.out, "\n$ vessik%s\n", shown)
	command := exec.CommandContext(ctx, program, arguments...)
	command.Env = append(os.Environ(), "VESSIK_HOME="+place.Dir, "VESSIK_ENGINES="+place.Engines)
	var errs bytes.Buffer
	command.Stdout, command.Stderr = c.out, &errs
	if err := command.Run(); err != nil {
		return fmt.Errorf("vessik %s: %w\n%s", arguments[0], err, errs.String())
	}
	return nil
}
