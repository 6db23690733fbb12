package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

var atLoginCommand = command{name: "at-login", names: "[on|off]", about: "start the service when you log in",
	synopsis: "on writes a systemd user unit that starts the service when you log in, and starts it with the machine if lingering is " +
		"enabled for you; off takes it away.\nWithout a word, says how it is.",
	example: "vessik at-login on\nvessik at-login off", run: runAtLogin}

// loginState is how starting at login stands.
type loginState struct {
	On   bool   `json:"on"`
	File string `json:"file"`
	Note string `json:"note,omitempty"`
}

func runAtLogin(_ context.Context, c *call) error {
	c.jsonFlag()
	if err := c.parse(); err != nil {
		return err
	}
	if len(c.names) > 1 || len(c.names) == 1 && c.names[0] != "on" && c.names[0] != "off" {
		return usageError{"say on or off"}
	}
	configuration, err := os.UserConfigDir()
	if err != nil {
		return err
	}
	state := loginState{File: filepath.Join(configuration, "systemd", "user", "vessik.service")}
	if len(c.names) == 1 && c.names[0] == "on" {
		if err := c.writeUnit(state.File); err != nil {
			return err
		}
		state.Note = systemctl("daemon-reload", "enable vessik.service")
	} else if len(c.names) == 1 {
		state.Note = systemctl("disable vessik.service")
		if err := os.Remove(state.File); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		systemctl("daemon-reload")
	}
	_, err = os.Stat(state.File)
	state.On = err == nil
	if *c.json {
		return c.printJSON(state)
	}
	if state.On {
		fmt.Fprintf(c.out, "the service starts when you log in (%s)\n", state.File)
	} else {
		fmt.Fprintln(c.out, "the service does not start when you log in; vessik at-login on changes that")
	}
	if state.Note != "" {
		fmt.Fprintln(c.out, state.Note)
	}
	return nil
}

func (c *call) writeUnit(file string) error {
	program, err := os.Executable()
	if err != nil {
		return err
	}
	home, err := c.homeFolder()
	if err != nil {
		return err
	}
	quote := func(text string) string { // systemd.service(5)
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "%", "%%", "$", "$$").Replace(text) + `"`
	}
	unit := "# Written by vessik at-login on; vessik at-login off takes it away.\n[Unit]\nDescription=Vessik, local sites side by side\n\n" +
		"[Service]\nExecStart=" +
		quote(program) + " serve -home " + quote(home.Dir) + "\nEnvironment=" + quote("VESSIK_ENGINES="+home.Engines) +
		"\nRestart=on-failure\nTimeoutStopSec=60\n\n[Install]\nWantedBy=default.target\n"
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return err
	}
	return os.WriteFile(file, []byte(unit), 0o644)
}

// systemctl asks the user's own systemd, and says what to do where it does not answer.
func systemctl(commands ...string) string {
	for _, command := range commands {
		out, err := exec.Command("systemctl", append([]string{"--user"}, strings.Fields(command)...)...).CombinedOutput()
		if err != nil {
			return fmt.Sprintf("systemd did not take it up (%s); when it runs for you: systemctl --user %s",
				strings.TrimSpace(string(out)+" "+err.Error()), strings.Join(commands, " && systemctl --user "))
		}
	}
	return ""
}
