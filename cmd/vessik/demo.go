package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"

	"slices"
	"strconv"
	"sync"
	"syscall"
	"time"

	"vessik/client"
	"vessik/demo"
	"vessik/internal/background"
	"vessik/internal/core/plan"
	"vessik/internal/core/wire"
	"vessik/internal/home"
)

var demoCommand = command{name: "demo", about: "run the demo fleet",
	synopsis: "Starts a service in a home of its own (~/vessik-demo, for root /var/lib/vessik-demo), makes the demo fleet there, verifies " +
		"it,\npulls a site from a practice host, pushes what is changed in it, invites a guest to another, and stays until Ctrl-C, which " +
		"stops all of it. Sites stay as they were left for the next time.",
	example: "vessik demo -once", run: runDemo}

func runDemo(ctx context.Context, c *call) error {
	withHost := c.flags.Bool("host", true, "also run the practice host, and move a site")
	withRelay := c.flags.Bool("relay", true, "also run a relay, and invite a guest")
	once := c.flags.Bool("once", false, "exit when all is verified: 0 only if every check passed")
	if err := c.parse(); err != nil {
		return err
	}
	place, err := homeOfItsOwn("vessik-demo", *c.home)
	if err != nil {
		return err
	}
	service, err := startProgram(place, os.Stdout, "serve")
	if err != nil {
		return err
	}
	defer service.stop()
	ctx, cancel := service.within(ctx)
	defer cancel()
	report, err := showFleet(ctx, c, place)
	if err != nil {
		if ctx.Err() != nil && service.failed() != nil {
			return service.failed()
		}
		return err
	}
	if *withHost {
		end, err := besideHost(ctx, c, place)
		defer end()
		if err != nil && (*once || ctx.Err() != nil) {
			return err
		}
		if err != nil { // the fleet is there
			fmt.Fprintf(c.out, "\nWithout the practice host: %v\n", err)
		}
	}
	if *withRelay {
		end, err := besideRelay(ctx, c, place)
		defer end()
		if err != nil && (*once || ctx.Err() != nil) {
			return err
		}
		if err != nil {
			fmt.Fprintf(c.out, "\nWithout the relay: %v\n", err)
		}
	}
	if *once {
		if !report.Passed {
			return exitCode(exitCheckFailed)
		}
		return nil
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	link, err := api.Link(ctx)
	if err != nil {
		return err
	}
	fmt.Fprintf(c.out, "\nConsole (this link signs you in once, within five minutes):\n  %s\nPasswords: bin/vessik site fernhollow "+
		"-secrets -home %s\n\nCtrl-C stops everything that was started here.\n", link.URL, place.Dir)
	<-ctx.Done()
	return service.failed()
}

// showFleet makes what is missing of the demo fleet, verifies all of it, and prints where it is.
func showFleet(ctx context.Context, c *call, home home.Home) (client.Report, error) {
	*c.home = home.Dir
	plain := false
	c.json = &plain
	if _, err := c.settledStatus(ctx, 15*time.Minute); err != nil {
		return client.Report{}, err
	}
	service, err := c.client()
	if err != nil {
		return client.Report{}, err
	}
	fleet := demo.Load()
	there, err := service.Sites(ctx, false)
	if err != nil {
		return client.Report{}, err
	}
	missing := []client.Request{}
	for _, s := range fleet.Sites {
		if !slices.ContainsFunc(there, func(t client.Site) bool { return t.Name == s.Name }) {
			missing = append(missing, fleet.Request(s))
		}
	}
	if len(missing) > 0 {
		operation, err := service.New(ctx, missing...)
		if err != nil {
			return client.Report{}, err
		}
		watched, err := c.follow(ctx, service, operation)
		if err != nil {
			return client.Report{}, err
		}
		if err := outcome(watched); errors.Is(err, exitCode(exitFailed)) {
			return client.Report{}, err
		}
	}
	if err := fillAll(ctx, service, fleet); err != nil {
		return client.Report{}, err
	}
	operation, err := service.Do(ctx, plan.Verify, wire.Names{All: true})
	if err != nil {
		return client.Report{}, err
	}
	watched, err := c.follow(ctx, service, operation)
	if err != nil {
		return client.Report{}, err
	}
	report := client.Report{Passed: outcome(watched) == nil}
	sites, err := service.Sites(ctx, false)
	if err != nil {
		return report, err
	}
	fmt.Fprintln(c.out)
	if err := c.fleetTable(ctx, service, sites); err != nil {
		return report, err
	}
	return report, nil
}

// fillAll writes the demo content of the sites that run.
func fillAll(ctx context.Context, service *client.Client, fleet demo.Fleet) error {
	sites, err := service.Sites(ctx, true)
	if err != nil {
		return err
	}
	var group sync.WaitGroup
	faults := make([]error, len(fleet.Sites))
	for i, s := range fleet.Sites {
		at := slices.IndexFunc(sites, func(made client.Site) bool { return made.Name == s.Name })
		if at < 0 || sites[at].State != "running" {
			continue
		}
		group.Go(func() {
			if err := demo.Fill(ctx, s, sites[at]); err != nil {
				faults[i] = fmt.Errorf("write the content of %s: %w", s.Name, err)
			}
		})
	}
	group.Wait()
	return errors.Join(faults...)
}

// child is a command of Vessik's own that another one started: its service, or the practice host.
type child struct {
	command *exec.Cmd
	ended   chan struct{}
	err     error
	stopped bool
}

// startProgram starts a command of Vessik's own that stays.
func startProgram(home home.Home, out *os.File, name string, flags ...string) (*child, error) {
	program, err := os.Executable()
	if err != nil {
		return nil, err
	}
	s := &child{command: exec.Command(program, append([]string{name, "-home", home.Dir}, flags...)...), ended: make(chan struct{})}
	s.command.Env = append(os.Environ(), "VESSIK_ENGINES="+home.Engines, starter+"="+strconv.Itoa(os.Getpid()))
	s.command.Stdout, s.command.Stderr = out, os.Stderr
	s.command.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // Ctrl-C on the terminal is for whoever started it, who then ends it
	if err := s.command.Start(); err != nil {
		return nil, err
	}
	go func() {
		s.err = s.command.Wait()
		close(s.ended)
	}()
	return s, nil
}

// starter is the variable by which a command knows who started it: it ends when that one does. (The kernel's signal for it does not outlive
// becoming another account.)
const starter = "VESSIK_STARTED_BY"

// untilStarterEnds ends with the process that started this one, where that wants it so.
func untilStarterEnds(ctx context.Context) context.Context {
	pid, err := strconv.Atoi(os.Getenv(starter))
	os.Unsetenv(starter)
	if err != nil {
		return ctx
	}
	ctx, end := context.WithCancel(ctx)
	go background.Every(ctx, 300*time.Millisecond, func() {
		if os.Getppid() != pid {
			end()
		}
	})
	return ctx
}

// within is a context that ends with the service: where that ends by itself, so does what it was started for.
func (s *child) within(ctx context.Context) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(ctx)
	go func() {
		<-s.ended
		cancel()
	}()
	return ctx, cancel
}

// homeBeside is the home folder of a service that is started for one command, beside the usual one; given names another.
func homeBeside(name, given string) (place home.Home, err error) {
	usual, err := home.Default()
	if err != nil {
		return place, err
	}
	base := "/var/lib"
	if os.Geteuid() != 0 {
		if base, err = os.UserHomeDir(); err != nil {
			return place, err
		}
	}
	dir := filepath.Join(base, name)
	if given != "" {
		dir = given
	}
	return home.New(dir, usual.Engines)
}

// homeOfItsOwn is homeBeside for one in which no service may be.
func homeOfItsOwn(name, given string) (place home.Home, err error) {
	if place, err = homeBeside(name, given); err == nil && place.InUse() {
		err = fmt.Errorf("%s: %w; stop that one first", place.Dir, home.ErrInUse)
	}
	return place, err
}

// failed says why the service ended by itself.
func (s *child) failed() error {
	select {
	case <-s.ended:
		if !s.stopped {
			return fmt.Errorf("the service ended (%v); it said why above", s.err)
		}
	default:
	}
	return nil
}

func (s *child) stop() {
	s.stopped = true
	s.command.Process.Signal(syscall.SIGTERM)
	<-s.ended
}
