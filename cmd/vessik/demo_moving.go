package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"slices"
	"strings"

	"vessik/client"
	"vessik/internal/home"
	"vessik/internal/hosting"
)

// What the demo moves: the site at the practice host, and the one that is made of it here.
const (
	demoLive    = "orchard-live"
	demoStaging = "orchard-staging"
	demoPulled  = "orchard-autumn"
)

// hostedDemo is the practice host beside the demo, and what it runs commands with.
type hostedDemo struct {
	c      *call
	place  home.Home
	api    *client.Client
	child  *child
	rented []hostedSite
}

// besideHost runs the practice host beside the demo until end is called, and moves a site.
func besideHost(ctx context.Context, c *call, place home.Home) (end func(), err error) {
	host, err := startHost(ctx, c, place)
	if err != nil {
		return func() {}, err
	}
	if err = host.move(ctx); err == nil {
		host.tell()
	}
	return host.child.stop, err
}

// startHost starts the practice host, at the port that the demo's accounts know.
func startHost(ctx context.Context, c *call, place home.Home) (*hostedDemo, error) {
	api, err := c.client()
	if err != nil {
		return nil, err
	}
	accounts, err := api.Accounts(ctx)
	if err != nil {
		return nil, err
	}
	port := "0"
	if i := slices.IndexFunc(accounts, func(a client.Account) bool { return a.Name == demoLive }); i >= 0 {
		if at, err := url.Parse(accounts[i].At); err == nil {
			port = at.Port()
		}
	}
	said, end, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	defer said.Close()
	fmt.Fprintln(c.out, "\nThe practice host starts, with a service of its own:")
	at := home.Home{Dir: place.Path("practice-host"), Engines: place.Engines}
	h := &hostedDemo{c: c, place: place, api: api}
	h.child, err = startProgram(at, end, "practice-host", "-json", "-ssh-port", port, "-ftp-port", "0", "-page-port", "0")
	end.Close()
	if err != nil {
		return nil, err
	}
	if err := json.NewDecoder(said).Decode(&h.rented); err != nil {
		defer h.child.stop()
		return nil, errors.Join(fmt.Errorf("the practice host did not start: %w", err), h.child.failed())
	}
	for _, each := range h.rented {
		if err := h.add(ctx, accounts, each); err != nil {
			h.child.stop()
			return nil, err
		}
	}
	return h, nil
}

// tell says how the practice host is tried by hand.
func (h *hostedDemo) tell() {
	if len(h.rented) == 0 {
		return
	}
	s := h.rented[0]
	fmt.Fprintf(h.c.out, "\nPractice host: account page %s (customer %s, password %s; one-time codes: bin/vessik practice-host -code "+
		"-home %s)\n",
		s.Page, s.Customer, s.CustomerPassword, h.place.Path("practice-host"))
}

// add has the demo know an account, the live one first.
func (h *hostedDemo) add(ctx context.Context, known []client.Account, s hostedSite) error {
	if slices.ContainsFunc(known, func(a client.Account) bool { return a.Name == s.Name }) {
		return nil
	}
	asked := client.AddAccount{Name: s.Name, At: s.At, URL: s.URL, Password: s.Password}
	if s.Name == demoStaging {
		asked.Of = demoLive
	}
	_, err := h.api.AddAccount(ctx, asked)
	return err
}

// move pulls the live site, writes something here, and pushes it, all by commands that it shows; once: what was done since is left alone.
func (h *hostedDemo) move(ctx context.Context) error {
	if _, err := h.api.Site(ctx, demoPulled, false); err == nil {
		return nil
	}
	fmt.Fprintf(h.c.out, "\nA live site at a host (the practice host, on this machine) comes here, is changed, and goes back:\n")
	if err := itself(ctx, h.c, h.place, "pull", demoLive, demoPulled); err != nil {
		return err
	}
	const written = `require 'wp-load.php';
		$text = 'The press is lent out, the barrels are not. Ines Halloway pours until ten.';
		wp_insert_post(['post_title' => 'Cider night', 'post_name' => 'cider-night', 'post_status' => 'publish',
			'post_content' => "<!-- wp:paragraph -->\n<p>$text</p>\n<!-- /wp:paragraph -->"]);
		file_put_contents(WP_CONTENT_DIR . '/uploads/cider-night.txt', "Bring a jug.\n");`
	if err := itself(ctx, h.c, h.place, "run", demoPulled, "--", "php", "-r", written); err != nil {
		return err
	}
	if err := itself(ctx, h.c, h.place, "push", demoPulled, demoLive, "-yes"); err != nil {
		return err
	}
	accounts, err := h.api.Accounts(ctx)
	if err != nil {
		return err
	}
	live := accounts[slices.IndexFunc(accounts, func(a client.Account) bool { return a.Name == demoLive })].URL
	text, _, err := hosting.Get(ctx, live+"/")
	if err == nil && !strings.Contains(text, "Cider night") {
		err = errors.New("what was pushed is not to be seen there")
	}
	if err != nil {
		return fmt.Errorf("%s: %w", live, err)
	}
	fmt.Fprintf(h.c.out, "\n%s/ shows it now.\n", live)
	return nil
}
