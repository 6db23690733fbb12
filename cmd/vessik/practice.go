package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"vessik/client"
	"vessik/demo"
	"vessik/internal/home"
	vessik "vessik/internal/service"
	"vessik/practice"
)

var practiceHostCommand = command{name: "practice-host", about: "run a made-up hosting company to practise with",
	synopsis: "Runs a small made-up hosting company on loopback, in a home of its own (~/vessik-practice, for root " +
		"/var/lib/vessik-practice): customers " +
		"sign in by SSH,\nSFTP and FTP with TLS, and have a live site and a staging one of the demo, on real engines. It prints how each is " +
		"added as a " +
		"hosting account, and stays until Ctrl-C.\n-fault has it go wrong: slow=BYTES-A-SECOND, cut=BYTES (the line, each time so many " +
		"went), quota=BYTES, " +
		"read-only, no-shell; and has its sites be such as hosts have them: time, memory and upload of a request, an older PHP, a file " +
		"whose name " +
		"is in ISO 8859-1.",
	example: "vessik practice-host -fault slow=200000 -fault no-shell", run: runPracticeHost}

func runPracticeHost(ctx context.Context, c *call) error {
	var faults list
	c.flags.Var(&faults, "fault", "what goes wrong: "+faultWords+"; may be given more than once")
	sshPort := c.flags.Int("ssh-port", 2222, "port of SSH and SFTP")
	ftpPort := c.flags.Int("ftp-port", 2121, "port of FTP")
	pagePort := c.flags.Int("page-port", 2180, "port of the account page")
	code := c.flags.Bool("code", false, "print the one-time code that the account page asks for now, and end")
	c.jsonFlag()
	if err := c.parse(); err != nil {
		return err
	}
	wrong, engines, err := faultsOf(faults)
	if err != nil {
		return err
	}
	if *code {
		return c.tellCode()
	}
	place, flags, err := practicePlace(*c.home)
	if err != nil {
		return err
	}
	doors, err := practice.OpenDoors(*sshPort, *ftpPort, *pagePort)
	if err != nil {
		return fmt.Errorf("%w; choose other ports with -ssh-port, -ftp-port and -page-port", err)
	}
	service, err := startProgram(place, map[bool]*os.File{true: os.Stderr, false: os.Stdout}[*c.json], "serve", flags...)
	if err != nil {
		return err
	}
	defer service.stop()
	ctx, cancel := service.within(ctx)
	defer cancel()
	*c.home = place.Dir
	if _, err := c.settledStatus(ctx, 15*time.Minute); err != nil {
		return errors.Join(service.failed(), err)
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	if err := vessik.BecomeOwner(place.Dir); err != nil {
		return err
	}
	host, err := practice.Open(place.Path("practice"), api, slog.New(slog.NewTextHandler(os.Stderr, nil)))
	if err != nil {
		return err
	}
	if err := c.rentOut(ctx, host, api, doors, engines); err != nil {
		return errors.Join(service.failed(), err)
	}
	host.Fail(wrong)
	return errors.Join(host.Serve(ctx, doors), service.failed())
}

// practiceName is what the practice host's home is called.
const practiceName = "vessik-practice"

// demoCustomer rents the demo's sites.
const demoCustomer = "orchard"

// tellCode tells the one-time code of the customer, as an authenticator would.
func (c *call) tellCode() error {
	place, err := homeBeside(practiceName, *c.home)
	if err != nil {
		return err
	}
	if _, err := os.Stat(place.Path("practice")); err != nil { // which only the host makes
		return fmt.Errorf("no practice host was ever started in %s: vessik practice-host", place.Dir)
	}
	host, err := practice.Open(place.Path("practice"), nil, nil)
	if err != nil {
		return err
	}
	customer, err := host.Customer(demoCustomer)
	if err != nil {
		return err
	}
	code, err := customer.Code(time.Now())
	fmt.Fprintln(c.out, code)
	return err
}

// practicePlace is the host's home, and the flags of its service.
func practicePlace(dir string) (place home.Home, flags []string, err error) {
	if place, err = homeOfItsOwn(practiceName, dir); err != nil {
		return place, nil, err
	}
	flags, err = portsOfItsOwn(place)
	return place, flags, err
}

// portsOfItsOwn are flags for a service beside the user's own, which it is told when its home is new: the usual ports are for that one.
func portsOfItsOwn(place home.Home) (flags []string, err error) {
	if _, err := os.Stat(place.Path("home.json")); err == nil {
		return nil, nil
	}
	for _, name := range []string{"-gateway-port", "-https-port"} {
		free, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return nil, err
		}
		flags = append(flags, name, strconv.Itoa(free.Addr().(*net.TCPAddr).Port))
		free.Close()
	}
	return flags, nil
}

// rentOut makes the live and the staging sites of the demo at the host, and tells how they are added as accounts.
func (c *call) rentOut(ctx context.Context, host *practice.Host, api *client.Client, doors practice.Doors, engines ofEngines) error {
	asJSON, plain := *c.json, false
	c.json = &plain
	fleet := demo.Load()
	shown := fleet.Sites[slices.IndexFunc(fleet.Sites, func(s demo.Site) bool { return s.Name == "orchard-days" })]
	sites, err := api.Sites(ctx, false)
	if err != nil {
		return err
	}
	for kind, name := range map[string]string{"live": "orchard-live", "staging": "orchard-staging"} {
		if slices.ContainsFunc(sites, func(s client.Site) bool { return s.Name == name }) {
			continue
		}
		request := fleet.Request(shown)
		request.Name, request.Outgoing = name, "open"
		operation, err := api.New(ctx, request)
		if err != nil {
			return err
		}
		if _, err := c.follow(ctx, api, operation); err != nil {
			return err
		}
		if sites, err = api.Sites(ctx, true); err != nil {
			return err
		}
		if kind == "live" {
			if err := demo.Fill(ctx, shown, sites[slices.IndexFunc(sites, func(s client.Site) bool { return s.Name == name })]); err != nil {
				return err
			}
		}
	}
	customer, err := host.Customer(demoCustomer)
	if err != nil {
		return err
	}
	rented := []hostedSite{}
	for _, s := range sites {
		if err := engines.set(ctx, c, api, s); err != nil {
			return err
		}
		e, err := host.Rent(s, demoCustomer, strings.TrimPrefix(s.Name, "orchard-"))
		if err != nil {
			return err
		}
		rented = append(rented, hostedSite{Name: e.User, Kind: e.Kind, URL: strings.TrimSuffix(e.URL, "/"), Password: e.Password,
			Page: "http://" + doors.Page.Addr().String(), Customer: demoCustomer, CustomerPassword: customer.Password,
			At: fmt.Sprintf("sftp://%s@%s/", e.User, doors.SSH.Addr()), FTP: fmt.Sprintf("ftps://%s@%s/", e.User, doors.FTP.Addr())})
	}
	if asJSON {
		return c.printJSON(rented)
	}
	for _, s := range rented {
		fmt.Fprintf(c.out, "\n%s site at %s\n  VESSIK_HOST_PASSWORD=%s vessik hosting add %s -at %s -url %s\n  or by FTP with TLS: -at %s\n",
			s.Kind, s.URL, s.Password, s.Name, s.At, s.URL, s.FTP)
	}
	fmt.Fprintf(c.out, "\nor sign in at the account page (customer %s, password %s; one-time codes: vessik practice-host -code%s):\n  "+
		"vessik hosting "+
		"sign-in http://%s\n", demoCustomer, customer.Password, homeFlag(*c.home), doors.Page.Addr())
	return nil
}

// homeFlag names a home where it is not the practice host's usual one.
func homeFlag(dir string) string {
	if usual, err := homeBeside(practiceName, ""); err == nil && usual.Dir == dir {
		return ""
	}
	return " -home " + dir
}

// hostedSite is a site at the practice host, and how it is added as a hosting account.
type hostedSite struct {
	Name     string `json:"name"`
	Kind     string `json:"kind"` // live or staging
	URL      string `json:"url"`
	At       string `json:"at"`
	FTP      string `json:"ftp"`
	Password string `json:"password"`
	// Where its customer signs in instead.
	Page             string `json:"page"`
	Customer         string `json:"customer"`
	CustomerPassword string `json:"customer_password"`
}

// faultWords are what may be given to -fault.
const faultWords = "slow=N, cut=N, quota=N, read-only, no-shell, time=SECONDS, memory=64M, upload=2M, php=7.4 or names=latin1"

// faultsOf reads what is to go wrong.
func faultsOf(words []string) (f practice.Faults, of ofEngines, err error) {
	of.directives = map[string]string{}
	for _, word := range words {
		name, value, given := strings.Cut(word, "=")
		number, notNumber := strconv.ParseInt(value, 10, 64)
		switch {
		case name == "read-only" && !given:
			f.ReadOnly = true
		case name == "no-shell" && !given:
			f.NoShell = true
		case of.read(name, value):
		case notNumber != nil || number <= 0:
			return f, of, usageError{fmt.Sprintf("-fault: %q is none; it is %s", word, faultWords)}
		case name == "slow":
			f.BytesPerSecond = number
		case name == "cut":
			f.CutAfter, f.Cuts = number, 1<<30
		case name == "quota":
			f.Quota = number
		default:
			return f, of, usageError{fmt.Sprintf("-fault: %q is none; it is %s", word, faultWords)}
		}
	}
	return f, of, nil
}
