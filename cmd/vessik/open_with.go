package main

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

var editCommand = command{name: "edit", names: "[NAME]", about: "open a site's folder in your editor",
	synopsis: "Opens a site's folder with your own editor: the command that you set with -set, or $VISUAL or $EDITOR. FOLDER in the " +
		"command stands for the folder.\nIt is kept in your own configuration folder, and asked of nobody else.",
	example: "vessik edit -set \"code FOLDER\"\nvessik edit orchard-days", run: func(ctx context.Context, c *call) error {
		return c.openWith(ctx, "editor", cmp.Or(os.Getenv("VISUAL"), os.Getenv("EDITOR")))
	}}

var terminalCommand = command{name: "terminal", names: "[NAME]", about: "open a terminal in a site's folder",
	synopsis: "Opens your own terminal, with the command that you set with -set. FOLDER in the command stands for the folder.\nWhat you " +
		"start there runs as you. For a shell that is held to the site: vessik run NAME",
	example: "vessik terminal -set \"xterm -e 'cd FOLDER && bash'\"\nvessik terminal orchard-days",
	run: func(ctx context.Context, c *call) error {
		return c.openWith(ctx, "terminal", "x-terminal-emulator")
	}}

// ownCommand is the file in the caller's own configuration folder that holds one command (XDG Base Directory Specification). The service
// is not asked: it would say what runs as whoever asks it, root included.
func ownCommand(setting string) (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "vessik", setting), nil
}

func (c *call) openWith(ctx context.Context, setting, usual string) error {
	only := c.flags.Bool("print", false, "print the command instead of running it")
	set := c.flags.String("set", "", "keep this command as yours")
	service, err := c.connect()
	var usage usageError
	if err != nil && (*set == "" || errors.As(err, &usage)) { // what is kept needs no service
		return err
	}
	file, err := ownCommand(setting)
	if err != nil {
		return err
	}
	if *set != "" {
		return keepCommand(c, file, *set)
	}
	if len(c.names) == 0 {
		return usageError{"name a site"}
	}
	s, err := service.Site(ctx, c.names[0], false)
	if err != nil {
		return err
	}
	line := usual
	if own, err := os.ReadFile(file); err == nil && len(bytes.TrimSpace(own)) > 0 {
		line = string(bytes.TrimSpace(own))
	}
	words, err := commandWords(line, s.Folder)
	if err != nil {
		return usageError{fmt.Sprintf("the %s command %q: %v", setting, line, err)}
	}
	if len(words) == 0 {
		return usageError{fmt.Sprintf("no %s is set: say which with vessik %s -set \"COMMAND FOLDER\"", setting, c.command.name)}
	}
	if *c.json {
		return c.printJSON(map[string]any{"command": words})
	}
	if *only {
		fmt.Fprintln(c.out, strings.Join(words, " "))
		return nil
	}
	command := exec.CommandContext(ctx, words[0], words[1:]...)
	command.Dir, command.Stdin, command.Stdout, command.Stderr = s.Folder, os.Stdin, c.out, os.Stderr
	if err := command.Run(); err != nil {
		return fmt.Errorf("%s: %w; set another command with: vessik %s -set \"COMMAND FOLDER\"", words[0], err, c.command.name)
	}
	return nil
}

func keepCommand(c *call, file, line string) error {
	if _, err := commandWords(line, "/"); err != nil {
		return usageError{fmt.Sprintf("the command %q: %v", line, err)}
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(file, []byte(line+"\n"), 0o600); err != nil {
		return err
	}
	fmt.Fprintf(c.out, "kept in %s\n", file)
	return nil
}

// commandWords splits a command line at spaces, except inside quotes, and puts the folder where FOLDER stands; at the end where it stands
// nowhere. No shell reads it.
func commandWords(line, folder string) ([]string, error) {
	words, word, quote, inside := []string{}, "", rune(0), false
	for _, r := range line {
		switch {
		case quote != 0 && r == quote:
			quote = 0
		case quote == 0 && (r == '\'' || r == '"'):
			quote, inside = r, true
		case quote == 0 && r == ' ':
			if word != "" || inside {
				words = append(words, word)
			}
			word, inside = "", false
		default:
			word += string(r)
		}
	}
	if quote != 0 {
		return nil, fmt.Errorf("a quote %c is not closed", quote)
	}
	if word != "" || inside {
		words = append(words, word)
	}
	found := false
	for i := range words {
		found = found || strings.Contains(words[i], "FOLDER")
		words[i] = strings.ReplaceAll(words[i], "FOLDER", folder)
	}
	if !found && len(words) > 0 {
		words = append(words, folder)
	}
	return words, nil
}
