// Package command runs commands as if a site's own PHP had started them: in a cell, with the site's PHP, folder and database.
package command

import (
	"context"
	"errors"
	"io"
	"os"
	"os/exec"
	"syscall"

	"github.com/creack/pty"

	"vessik/internal/cell"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/running"
)

// Feature runs commands in the sites of one machine.
type Feature struct{ Machine *running.Machine }

// Terminal is the size of a terminal, in characters.
type Terminal = wire.TerminalSize

// Streams are what a command reads and writes.
type Streams struct {
	In       io.Reader
	Out, Err io.Writer
	Resized  <-chan Terminal // while it has a terminal
}

// Run runs a command as one of a site's own, in a cell, and returns its exit code. It ends with ctx.
func (f *Feature) Run(ctx context.Context, name string, asked wire.Command, streams Streams) (code int, err error) {
	s, ok := f.Machine.Registry.Site(name)
	if !ok {
		return 0, site.NoSite(name)
	}
	_, release, err := f.Machine.Lease(ctx, s.Stack.Database)
	if err != nil {
		return 0, err
	}
	defer release()
	environment, err := f.Machine.Environment(name)
	if err != nil {
		return 0, err
	}
	arguments := asked.Arguments
	if len(arguments) == 0 {
		arguments = []string{"/bin/sh"}
		if _, err := os.Stat("/bin/bash"); err == nil {
			arguments = []string{"/bin/bash", "--norc"}
		}
	}
	c := f.Machine.CommandCell(s, environment)
	c.Terminal = asked.Terminal != nil
	command, err := f.Machine.Supervisor.Command(c, arguments[0], arguments[1:]...)
	if err != nil {
		return 0, err
	}
	command.Dir, command.Env = s.Folder, running.CommandEnv(environment)
	if asked.Folder != "" && site.Inside(asked.Folder, s.Folder) {
		command.Dir = asked.Folder
	}
	for name, value := range asked.Environment {
		command.Env = append(command.Env, name+"="+value)
	}
	if asked.Terminal != nil {
		return inTerminal(ctx, command, *asked.Terminal, streams)
	}
	return piped(ctx, command, streams)
}

// piped runs a command whose input comes from a reader.
func piped(ctx context.Context, command *cell.Program, streams Streams) (int, error) {
	command.Stdout, command.Stderr = streams.Out, streams.Err
	in, err := command.StdinPipe()
	if err != nil {
		return 0, err
	}
	if err := command.Start(); err != nil {
		return 0, err
	}
	go func() {
		io.Copy(in, streams.In)
		in.Close()
	}()
	return ended(ctx, command)
}

// inTerminal runs a command on a terminal of its own, which is the service's: what it pushes into the terminal's input comes out there.
func inTerminal(ctx context.Context, command *cell.Program, size Terminal, streams Streams) (int, error) {
	ours, theirs, err := pty.Open()
	if err != nil {
		return 0, err
	}
	defer ours.Close()
	pty.Setsize(ours, &pty.Winsize{Rows: size.Rows, Cols: size.Columns})
	command.Stdin, command.Stdout, command.Stderr = theirs, theirs, theirs
	err = command.Start()
	theirs.Close()
	if err != nil {
		return 0, err
	}
	shown := make(chan struct{})
	go func() {
		io.Copy(streams.Out, ours)
		close(shown)
	}()
	go io.Copy(ours, streams.In)
	go func() {
		for size := range streams.Resized {
			pty.Setsize(ours, &pty.Winsize{Rows: size.Rows, Cols: size.Columns})
		}
	}()
	code, err := ended(ctx, command)
	<-shown // EIO once nobody has the other end
	return code, err
}

// ended waits for a command's end; its cell ends with ctx.
func ended(ctx context.Context, command *cell.Program) (int, error) {
	group := command.Process.Pid
	stop := context.AfterFunc(ctx, func() { syscall.Kill(-group, syscall.SIGKILL) })
	err := command.Wait()
	stop()
	syscall.Kill(-group, syscall.SIGKILL) // without namespaces something may be left
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return max(exit.ExitCode(), 1), nil
	}
	return 0, err
}
