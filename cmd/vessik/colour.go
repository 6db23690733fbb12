package main

import (
	"io"
	"os"

	"golang.org/x/term"

	"vessik/internal/core/check"
)

// onTerminal tells whether a person reads what is written, and wants it marked (see no-color.org).
func onTerminal(out io.Writer) bool {
	file, ok := out.(*os.File)
	if t, isTamed := out.(tamed); isTamed {
		file, ok = t.File, true
	}
	return ok && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb" && term.IsTerminal(int(file.Fd()))
}

// bold is a heading.
func bold(out io.Writer, text string) string {
	if !onTerminal(out) {
		return text
	}
	return "\x1b[1m" + text + "\x1b[0m"
}

// coloured is a verdict in its colour.
func coloured(out io.Writer) func(verdict check.Verdict, text string) string {
	marked := onTerminal(out)
	return func(verdict check.Verdict, text string) string {
		colour := map[check.Verdict]string{check.Pass: "32", check.Fail: "31;1", check.Skip: "2"}[verdict]
		if !marked || colour == "" {
			return text
		}
		return "\x1b[" + colour + "m" + text + "\x1b[0m"
	}
}

// onBlack shows what is drawn by blocks in white on black, where there are colours.
func onBlack(out io.Writer, text string) string {
	if !onTerminal(out) {
		return text
	}
	return "\x1b[97;40m" + text + "\x1b[0m"
}
