package main

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log"
	"log/slog"
	"net"
	"net/http"
	"os"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"golang.org/x/crypto/acme/autocert"
	"golang.org/x/sync/errgroup"

	"vessik/client"
	"vessik/copies"
	"vessik/internal/authority"
	"vessik/internal/home"
	"vessik/internal/relay"
	vessik "vessik/internal/service"
)

var relayCommand = command{name: "relay", names: "[token] [add|drop] [NAME]", about: "run a relay, which lends addresses for guests",
	synopsis: "Runs a relay: a small server that lends addresses below its domain to sites whose service connects out to it. It needs a " +
		"domain whose sub-domains\nlead to it (*.guests.example), and a certificate for them: -certificate and -key, or -acme, which gets " +
		"one for " +
		"each address (their names are then\nin public logs; passwords still guard them). A domain below localhost gets certificates of an " +
		"authority of " +
		"the relay's own.\nvessik relay token add NAME makes an account and prints its token, token drop NAME ends it, token lists them.\n" +
		"-standing keeps copies of accounts' sites, which stay up when their makers' machines are off (vessik standing): a service with " +
		"engines " +
		"of its own runs beside the relay.",
	example: "vessik relay -domain guests.localhost -listen 127.0.0.1:8443\nvessik relay token add ines\n" +
		"vessik relay -domain guests.example -certificate guests.pem -key guests.key", run: runRelay}

var relaysCommand = command{name: "relays", names: "[join|leave] [ADDRESS]", about: "list, join and leave relays",
	synopsis: "Lists the relays that this home has an account at, and whether the line to each stands. join takes the address and the " +
		"token that " +
		"whoever runs the relay gave you.\nA certificate that no authority vouches for is pinned; -fingerprint says which one it must be.",
	example: "vessik relays join https://guests.example -token TOKEN\nvessik relays\nvessik relays leave guests.example", run: runRelays}

func runRelay(ctx context.Context, c *call) error {
	domain := c.flags.String("domain", "guests.localhost", "domain below which addresses are lent")
	listen := c.flags.String("listen", "127.0.0.1:8443", "where it answers; :443 for whoever reaches this machine")
	public := c.flags.Int("public-port", 0, "the port in addresses, if another one leads here (default: that of -listen)")
	certificate := c.flags.String("certificate", "", "file with the certificate for *.DOMAIN and DOMAIN, PEM; read again when it changes")
	key := c.flags.String("key", "", "file with its key, PEM")
	acme := c.flags.Bool("acme", false, "get certificates by ACME, from the address -acme-directory")
	directory := c.flags.String("acme-directory", autocert.DefaultACMEDirectory, "directory of the certificate authority")
	limits, settings := relay.UsualLimits, (*tls.Config)(nil)
	c.flags.IntVar(&limits.Addresses, "addresses", limits.Addresses, "how many an account has at the same time")
	c.flags.IntVar(&limits.Guests, "requests", limits.Guests, "how many requests of an account are answered at the same time")
	traffic := c.flags.Int64("traffic", 0, "megabytes that an account has in a day; 0 for no limit")
	standing, most := c.flags.Bool("standing", false, "keep standing copies, in a service beside the relay"), copies.UsualLimits
	c.flags.IntVar(&most.Copies, "copies", most.Copies, "how many copies an account has")
	c.flags.DurationVar(&most.For, "copies-for", most.For, "how long one stands at the most, without being brought up to date")
	c.flags.StringVar(&most.Outgoing, "copies-outgoing", most.Outgoing, "what copies may ask of other machines: closed, web or open")
	room := c.flags.Int64("copies-room", most.Bytes>>20, "megabytes that an account's copies have, all together")
	c.common = []string{"domain", "listen", "certificate", "key"}
	c.jsonFlag()
	if err := c.parse(); err != nil {
		return err
	}
	place, err := homeBeside("vessik-relay", *c.home)
	if err != nil {
		return err
	}
	become := func() error { return vessik.BecomeOwner(place.Dir) } // neither the relay nor its files are root's
	if os.Geteuid() == 0 {
		if _, err := vessik.Account(vessik.AccountFor(os.Getenv("SUDO_USER"), place.Dir), place.Dir); err != nil {
			return err
		}
	}
	accounts := &relay.Accounts{Dir: place.Dir}
	if len(c.names) > 0 {
		if err := become(); err != nil {
			return err
		}
		return c.relayTokens(accounts)
	}
	if !slices.Contains([]string{"closed", "web", "open"}, most.Outgoing) || most.Copies < 1 || *room < 1 || most.For < time.Hour {
		return usageError{"-copies-outgoing is closed, web or open; -copies and -copies-room are 1 at least, -copies-for is 1h at least"}
	}
	limits.Bytes, most.Bytes = *traffic<<20, *room<<20
	door, err := net.Listen("tcp", *listen)
	if err != nil {
		return fmt.Errorf("-listen: %w; choose another port", err)
	}
	r := relay.New(*domain, cmp.Or(*public, door.Addr().(*net.TCPAddr).Port), accounts, slog.New(slog.NewTextHandler(os.Stderr, nil)))
	r.Limits = limits
	pair := &relay.Pair{Certificate: *certificate, Key: *key}
	if *certificate != "" { // which root alone may read
		_, err = pair.Get(nil)
	}
	var beside *standingRoom
	if err == nil && *standing {
		if beside, err = besideTheRelay(place, most); err == nil {
			defer beside.child.stop()
		}
	}
	if err = errors.Join(err, become()); err == nil {
		settings, err = relayTLS(r, place, pair, *acme, *directory)
	}
	if err != nil {
		door.Close()
		return err
	}
	fmt.Fprintf(c.out, "The relay lends addresses below %s:%d. Make an account: vessik relay token add NAME -home %s\n", *domain, r.Port,
		place.Dir)
	return serveRelay(ctx, r, door, settings, beside)
}

// serveRelay serves a relay, with the room for its copies where there is one, until the context or that ends.
func serveRelay(ctx context.Context, r *relay.Relay, door net.Listener, settings *tls.Config, beside *standingRoom) error {
	var keeping errgroup.Group
	defer keeping.Wait()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	server := &http.Server{Handler: r, TLSConfig: settings, ReadHeaderTimeout: 20 * time.Second, IdleTimeout: 2 * time.Minute,
		MaxHeaderBytes: 64 << 10, ErrorLog: log.New(io.Discard, "", 0)}
	stop := context.AfterFunc(ctx, func() { server.Close() })
	defer stop()
	if beside != nil {
		within, end := beside.child.within(ctx)
		defer end()
		beside.answer(r)
		keeping.Go(func() error {
			defer server.Close()
			if err := beside.keep(within, r); within.Err() == nil {
				return err
			}
			return nil // it was to end, or the service says why it did
		})
	}
	err := server.Serve(tls.NewListener(door, settings))
	if errors.Is(err, http.ErrServerClosed) {
		err = nil
	}
	if cancel(); beside != nil {
		err = errors.Join(err, beside.child.failed())
	}
	return errors.Join(err, keeping.Wait())
}

// relayTLS is how a relay shows who it is.
func relayTLS(r *relay.Relay, place home.Home, pair *relay.Pair, acme bool, directory string) (*tls.Config, error) {
	settings := &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{"http/1.1"}} // WebSockets are of HTTP/1.1 here
	switch {
	case pair.Certificate != "" && pair.Key != "":
		settings.GetCertificate = pair.Get
	case pair.Certificate != "" || pair.Key != "":
		return nil, usageError{"-certificate and -key go together"}
	case acme:
		settings = r.ACME(directory, place.Path("certificates"))
	default:
		if !strings.HasSuffix("."+r.Domain, ".localhost") {
			return nil, usageError{"a domain that is not below localhost needs -certificate and -key, or -acme"}
		}
		a, err := authority.Open(place.Path("authority"))
		if err != nil {
			return nil, err
		}
		a.Endings = func() []string { return []string{r.Domain} }
		settings.GetCertificate = func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
			root, err := a.Root()
			if err != nil {
				return nil, err
			}
			leaf, err := a.Certificate([]string{r.Domain, "*." + r.Domain})
			if err != nil {
				return nil, err
			}
			whole := *leaf
			whole.Certificate = [][]byte{leaf.Certificate[0], root.Raw}
			return &whole, nil
		}
	}
	return settings, nil
}

// relayTokens makes, ends and lists accounts of a relay.
func (c *call) relayTokens(accounts *relay.Accounts) error {
	switch words := c.names; {
	case words[0] == "token" && len(words) == 1:
		all, err := accounts.All()
		if err != nil {
			return err
		}
		if *c.json {
			return c.printJSON(all)
		}
		for _, each := range all {
			fmt.Fprintf(c.out, "%s  since %s\n", each.Name, each.MadeAt.Local().Format("2006-01-02"))
		}
		return nil
	case words[0] == "token" && len(words) == 3 && words[1] == "add":
		token, err := accounts.Add(words[2])
		if err != nil {
			return err
		}
		if *c.json {
			return c.printJSON(map[string]string{"name": words[2], "token": token})
		}
		fmt.Fprintln(c.out, token)
		return nil
	case words[0] == "token" && len(words) == 3 && words[1] == "drop":
		return accounts.Drop(words[2])
	}
	return usageError{"say token, token add NAME or token drop NAME"}
}

func runRelays(ctx context.Context, c *call) error {
	asked := client.JoinRelay{}
	c.flags.StringVar(&asked.Token, "token", "", "of the account at the relay")
	c.flags.StringVar(&asked.Fingerprint, "fingerprint", "", "SHA-256 of the certificate that the relay must show")
	service, err := c.connect(func() error {
		switch {
		case len(c.names) == 0:
			return nil
		case len(c.names) != 2 || c.names[0] != "join" && c.names[0] != "leave":
			return usageError{"say join ADDRESS -token TOKEN, leave HOST, or nothing"}
		case c.names[0] == "join" && asked.Token == "":
			return usageError{"join needs -token"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if len(c.names) == 2 && c.names[0] == "leave" {
		return service.LeaveRelay(ctx, c.names[1])
	}
	var all []client.Relay
	if len(c.names) == 2 {
		if asked.URL = c.names[1]; !strings.Contains(asked.URL, "://") {
			asked.URL = "https://" + asked.URL
		}
		joined, err := service.JoinRelay(ctx, asked)
		if err != nil {
			return err
		}
		if all = append(all, joined); *c.json {
			return c.printJSON(joined)
		}
	} else if all, err = service.Relays(ctx); err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(all)
	}
	return c.tellRelays(all)
}

func (c *call) tellRelays(all []client.Relay) error {
	if len(all) == 0 {
		fmt.Fprintln(c.out, "This home has an account at no relay. Join one with: vessik relays join ADDRESS -token TOKEN")
		return nil
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, bold(c.out, "RELAY")+"\tLINE\tPINNED CERTIFICATE\tSINCE")
	for _, r := range all {
		line := "stands"
		if !r.Stands {
			line = "broken: " + cmp.Or(r.Why, "it is being made")
		}
		fmt.Fprintf(table, "%s\t%s\t%s\t%s\n", r.Host, line, cmp.Or(r.Fingerprint, "-"), r.JoinedAt.Local().Format("2006-01-02"))
	}
	return table.Flush()
}
