package main

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"os/exec"
	"strings"
)

var editCommand = command{name: "edit", names: "NAME", about: "open a site's folder in your editor",
	synopsis: "Opens a site's folder with the command that is set once as editor, or with $VISUAL or $EDITOR. FOLDER in the command stands for the folder.",
	example:  "vessik defaults editor=\"code FOLDER\"\nvessik edit orchard-days", run: func(ctx context.Context, c *call) error {
		return c.openWith(ctx, "editor", cmp.Or(os.Getenv("VISUAL"), os.Getenv("EDITOR")))
	}}

var terminalCommand = command{name: "terminal", names: "NAME", about: "open a terminal in a site's folder",
	synopsis: "Opens a terminal with the command that is set once as terminal. FOLDER in the command stands for the folder.",
	example:  "vessik defaults terminal=\"xterm -e 'cd FOLDER && bash'\"\nvessik terminal orchard-days", run: func(ctx context.Context, c *call) error {
		return c.openWith(ctx, "terminal", "x-terminal-emulator")
	}}

func (c *call) openWith(ctx context.Context, setting, usual string) error {
	only := c.flags.Bool("print", false, "print the command instead of running it")
	service, err := c.connect()
	if err != nil {
		return err
	}
	s, err := service.Site(ctx, c.names[0], false)
	if err != nil {
		return err
	}
	page, err := service.Defaults(ctx)
	if err != nil {
		return err
	}
	line := usual
	for _, each := range page.Settings {
		if each.Name == setting && each.Value != "" {
			line = each.Value
		}
	}
	words, err := commandWords(line, s.Folder)
	if err != nil {
		return usageError{fmt.Sprintf("the %s command %q: %v", setting, line, err)}
	}
	if len(words) == 0 {
		return usageError{fmt.Sprintf("no %s is set: say which with vessik defaults %s=\"COMMAND FOLDER\"", setting, setting)}
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
		return fmt.Errorf("%s: %w; set another command with: vessik defaults %s=\"COMMAND FOLDER\"", words[0], err, setting)
	}
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
