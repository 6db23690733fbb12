// Package service puts the parts together: it opens the ports, becomes an unprivileged account, opens the home, and serves until it
// is told to end.
package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/user"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"strings"
	"sync"
	"time"

	"vessik/console"
	"vessik/internal/api"
	"vessik/internal/cell"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/engine"
	"vessik/internal/gateway"
	"vessik/internal/home"
	"vessik/internal/hosts"
	"vessik/internal/names"
	"vessik/internal/ownfile"
)

// Ports that are tried in turn.
var (
	apiPorts     = [2]int{20070, 20079}
	gatewayPorts = [2]int{20080, 20179}
	securePorts  = [2]int{20443, 20542} // for https
)

const (
	httpPort  = 80
	httpsPort = 443
)

// Options say how to serve.
type Options struct {
	Home        home.Home
	Account     string // whom to become when started by root; chosen where empty, see AccountFor
	SitePorts   [2]int // range that sites get their ports from; zero leaves it
	HTTPSPort   int    // 0: 443 where it can be had, else a free one; only a home that has none may choose
	GatewayPort int    // 0: 80 where it can be had, else a free one; only a new home may choose
	APIPort     int    // of the API and the console; 0: that of the last time, or a free one
	HostsFile   string // the machine's; the usual one where empty
	// RecordsPlain lets that server be reached without TLS.
	RecordsPlain bool
	RecordsDSN   string // external server for the records; only a new home may choose
	Out          io.Writer
}

// memoryGoal is above what the service works harder to keep its memory small, in bytes.
const memoryGoal = 192 << 20

// Run serves until the context ends, and leaves no process behind.
func Run(ctx context.Context, o Options) error {
	debug.SetMemoryLimit(memoryGoal)
	settings, err := settingsOf(o)
	if err != nil {
		return err
	}
	hostsFile := cmp.Or(o.HostsFile, names.HostsFile)
	var hostsHandle *os.File
	if settings.HostsAllowed { // as long as this is root
		hostsHandle = hosts.OpenFile(hostsFile)
	}
	plain, secure, err := openGateway(o.gateway(settings))
	if err != nil && o.Home.InUse() {
		return fmt.Errorf("%s: %w; stop that one first, or choose another folder with -home", o.Home.Dir, home.ErrInUse)
	}
	if err != nil {
		return err
	}
	if err := leaveRoot(o); err != nil {
		return err
	}
	if err := o.Home.Prepare(); err != nil {
		return err
	}
	apiListeners, apiPort, err := openAPI(o.Home, o.APIPort)
	if err != nil {
		return err
	}
	settings.GatewayPort = portOf(plain)
	logFile, err := ownfile.OpenFile(o.Home.Path("logs", "service.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer logFile.Close()
	h, err := open(ctx, opening{home: o.Home, settings: settings, hostsFile: hostsFile, hosts: hostsHandle, apiPort: apiPort,
		httpsPort: portOf(secure),
		log:       slog.New(slog.NewTextHandler(logFile, nil)), progress: Lines(o.Out)})
	if err != nil {
		return err
	}
	defer h.close()
	token, err := tokenOf(o.Home)
	if err != nil {
		return err
	}
	face := &api.API{Rooms: h.rooms, Port: apiPort, Token: token, Account: accountName(), PID: os.Getpid(),
		StartedAt: time.Now().UTC().Truncate(time.Second), Console: console.Files(), SessionsFile: o.Home.Path("sessions.json")}
	handler, _ := face.Handler()
	gate := h.gate(face.ConsoleURL())
	judging := &h.rooms.Operations.Judging
	judging.Lock() // the API answers from now on, and begins something once what was left unfinished is settled
	open := serve(served{gate, append(plain, gate.Secured(secure)...), 30 * time.Second}, served{handler, apiListeners, 10 * time.Second})
	defer open.end()
	text, err := json.Marshal(wire.ServiceFile{API: fmt.Sprintf("http://127.0.0.1:%d", apiPort), PID: os.Getpid()})
	if err != nil {
		return err
	}
	if err := ownfile.Write(o.Home.ServiceFile(), text, 0o600); err != nil {
		return err
	}
	defer ownfile.Remove(o.Home.ServiceFile())
	err = h.resume(ctx)
	judging.Unlock()
	if err != nil {
		return err
	}
	if apiPort != apiPorts[0] && apiPort != o.APIPort {
		fmt.Fprintf(o.Out, "port %d is taken; the API and the console are on %d\n", apiPorts[0], apiPort)
	}
	fmt.Fprintf(o.Out, "Vessik is ready. Sites: %s  Console: %s (sign in with: vessik console)\n",
		h.rooms.Machine.Gateway().URL("NAME.localhost", false), face.ConsoleURL())
	var fault error
	select {
	case <-ctx.Done():
	case fault = <-open.faults:
	}
	fmt.Fprintln(o.Out, "stopping; sites that run now will run again after the next start")
	return fault
}

// gateway is where it is to answer: 0 for a port that may be chosen.
func (o Options) gateway(settings home.Settings) site.Gateway {
	return site.Gateway{HTTP: max(settings.GatewayPort, o.GatewayPort), HTTPS: max(settings.HTTPSPort, o.HTTPSPort)}
}

// settingsOf are a home's, with what was asked for at this start. What the home keeps for all its life is not asked for otherwise.
func settingsOf(o Options) (home.Settings, error) {
	settings, err := o.Home.ReadSettings()
	if err != nil {
		return settings, err
	}
	for _, port := range []struct {
		flag          string
		asked, chosen int
	}{{"-gateway-port", o.GatewayPort, settings.GatewayPort}, {"-https-port", o.HTTPSPort, settings.HTTPSPort}} {
		if port.asked != 0 && port.chosen != 0 && port.asked != port.chosen {
			return settings, fmt.Errorf("the sites of this home are addressed on port %d, and that is kept for all its life; leave %s out, "+
				"or choose a new home", port.chosen, port.flag)
		}
	}
	if o.RecordsDSN != "" && o.RecordsDSN != settings.RecordsDSN && settings.GatewayPort != 0 {
		return settings, fmt.Errorf("this home keeps its records %s; leave -records-dsn out, or choose a new home",
			map[bool]string{true: "on a server of its own", false: "on another server"}[settings.RecordsDSN == ""])
	}
	settings.RecordsDSN = cmp.Or(settings.RecordsDSN, o.RecordsDSN)
	settings.RecordsPlain = settings.RecordsPlain || o.RecordsPlain
	if o.SitePorts[0] != 0 {
		settings.PortRange = o.SitePorts
	}
	return settings, nil
}

// leaveRoot becomes the account that everything runs as, if this is root.
func leaveRoot(o Options) error {
	if os.Geteuid() != 0 {
		return nil
	}
	name := cmp.Or(o.Account, AccountFor(os.Getenv("SUDO_USER"), o.Home.Dir, o.Home.Engines))
	account, err := Account(name, o.Home.Engines, o.Home.Dir)
	if err != nil {
		return err
	}
	if err := cell.ClaimGroups(name, account); err != nil {
		fmt.Fprintf(o.Out, "limits hold for single processes only: %v\n", err)
	}
	if err := become(account); err != nil {
		return err
	}
	fmt.Fprintf(o.Out, "started by root; from here on the service and all engines run as the account %s", name)
	switch by := os.Getenv("SUDO_USER"); by {
	case "", "root":
	case name:
		fmt.Fprint(o.Out, ", which may edit all sites' files")
	default:
		fmt.Fprintf(o.Out, "; to edit sites' files as %s, start it with -account %s and a -home and VESSIK_ENGINES of its own", by, by)
	}
	fmt.Fprintln(o.Out)
	return nil
}

// served is what answers on some listeners.
type served struct {
	handler   http.Handler
	listeners []net.Listener
	header    time.Duration // bounds the reading of a request's header
}

// openServers answer until they are ended; faults are those of their listeners.
type openServers struct {
	servers []*http.Server
	faults  chan error
	serving sync.WaitGroup
}

func serve(all ...served) *openServers {
	open := &openServers{faults: make(chan error, 4)}
	for _, each := range all {
		server := &http.Server{Handler: each.handler, ErrorLog: log.New(io.Discard, "", 0), ReadHeaderTimeout: each.header}
		open.servers = append(open.servers, server)
		for _, listener := range each.listeners {
			open.serving.Go(func() {
				if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
					open.faults <- fmt.Errorf("serve %s: %w", listener.Addr(), err)
				}
			})
		}
	}
	return open
}

// endGrace is what requests have to be answered in when the service ends.
const endGrace = 300 * time.Millisecond

func (o *openServers) end() {
	for _, server := range o.servers {
		grace, cancel := context.WithTimeout(context.Background(), endGrace)
		server.Shutdown(grace)
		cancel()
		server.Close()
	}
	o.serving.Wait()
}

// openGateway opens the port for http and the one for https.
func openGateway(at site.Gateway) (plain, secure []net.Listener, err error) {
	if plain, err = openPort(at.HTTP, httpPort, gatewayPorts); err != nil {
		return nil, nil, err
	}
	if secure, err = openPort(at.HTTPS, httpsPort, securePorts); err != nil {
		closeAll(plain)
	}
	return plain, secure, err
}

func closeAll(listeners []net.Listener) {
	for _, each := range listeners {
		each.Close()
	}
}

// openPort opens the port that was chosen once; for a new home, the scheme's own, or else a free one.
func openPort(chosen, usual int, others [2]int) ([]net.Listener, error) {
	if chosen != 0 {
		listeners, err := gateway.Listen(chosen)
		if err != nil {
			return nil, fmt.Errorf("the gateway's port %d, which every site's address names, is held by %s; end that program, or start as an "+
				"account that may open it (%w)", chosen, engine.Listener(chosen), err)
		}
		return listeners, nil
	}
	if listeners, err := gateway.Listen(usual); err == nil {
		return listeners, nil
	}
	listeners, _, err := gateway.FirstFree(others[0], others[1])
	return listeners, err
}

// openAPI opens the port that is asked for, or prefers that of the last time, so that the console keeps its address.
func openAPI(home home.Home, asked int) ([]net.Listener, int, error) {
	if asked != 0 {
		listeners, err := gateway.Listen(asked)
		if err != nil {
			return nil, 0, fmt.Errorf("-api-port: %w; choose another, or leave it out", err)
		}
		keepAPI(home, asked)
		return listeners, asked, nil
	}
	if text, err := os.ReadFile(lastAPI(home)); err == nil {
		if port, err := strconv.Atoi(strings.TrimSpace(string(text))); err == nil {
			if listeners, err := gateway.Listen(port); err == nil {
				return listeners, port, nil
			}
		}
	}
	listeners, port, err := gateway.FirstFree(apiPorts[0], apiPorts[1])
	if err != nil {
		return nil, 0, fmt.Errorf("open the API: %w", err)
	}
	keepAPI(home, port)
	return listeners, port, nil
}

// keepAPI keeps the port for the next time.
func keepAPI(home home.Home, port int) {
	if err := os.MkdirAll(filepath.Dir(lastAPI(home)), 0o700); err == nil {
		os.WriteFile(lastAPI(home), []byte(strconv.Itoa(port)), 0o600)
	}
}

func lastAPI(home home.Home) string { return filepath.Join(home.Dir, "run", "api-port") }

func portOf(listeners []net.Listener) int { return listeners[0].Addr().(*net.TCPAddr).Port }

// tokenOf returns the home's token, made at its first start.
func tokenOf(home home.Home) (string, error) {
	text, err := os.ReadFile(home.TokenFile())
	if errors.Is(err, fs.ErrNotExist) {
		token := rand.Text() + rand.Text()
		return token, ownfile.Write(home.TokenFile(), []byte(token+"\n"), 0o600)
	}
	return strings.TrimSpace(string(text)), err
}

// accountName is whom this process is now, whatever the environment says.
func accountName() string {
	id := strconv.Itoa(os.Getuid())
	found, err := user.LookupId(id)
	if err != nil {
		return id
	}
	return found.Username
}

// Lines shows progress as lines of text, one whenever something else is done or a quarter more of it.
func Lines(out io.Writer) engine.Progress {
	last, quarter := "", -1
	return func(text string, fraction float64) {
		now := int(fraction * 4)
		if text == last && now <= quarter {
			return
		}
		last, quarter = text, now
		if fraction > 0 {
			text = fmt.Sprintf("%s, %d%%", text, int(fraction*100))
		}
		fmt.Fprintln(out, text)
	}
}

// Document is the OpenAPI document of this version.
func Document() ([]byte, error) {
	face := &api.API{Port: apiPorts[0]}
	_, document := face.Handler()
	return json.MarshalIndent(document, "", "  ")
}
