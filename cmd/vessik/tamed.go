package main

import (
	"bytes"
	"io"
	"os"
	"regexp"
	"slices"
	"unicode"

	"golang.org/x/term"
)

// tamed writes to a terminal what anybody may have had a hand in, such as titles of plugins and names of files: of what would command the
// terminal, colours alone get through.
type tamed struct{ *os.File }

// tame has a terminal be written to so, unless a command hands on what a program prints.
func tame(command string, out io.Writer) io.Writer {
	file, ok := out.(*os.File)
	if !ok || slices.Contains([]string{"run", "terminal", "edit", "dump"}, command) || !term.IsTerminal(int(file.Fd())) {
		return out
	}
	return tamed{file}
}

func (t tamed) Write(text []byte) (int, error) {
	if _, err := t.File.Write(harmless(text)); err != nil {
		return 0, err
	}
	return len(text), nil
}

var colourOrControl = regexp.MustCompile("\x1b\\[[0-9;]*m|[\x00-\x1f\x7f]|[\u0080-\u009f\u200e\u200f\u202a-\u202e\u2066-\u2069]")

// harmless leaves out control characters, and those that turn the direction of writing.
func harmless(text []byte) []byte {
	return colourOrControl.ReplaceAllFunc(text, func(found []byte) []byte {
		if len(found) > 1 && found[0] == '\x1b' || bytes.ContainsAny(found, "\n\t") {
			return found
		}
		return []byte(string(unicode.ReplacementChar))
	})
}
