package main

import (
	"bytes"
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"vessik/client"
)

var completionCommand = command{name: "completion", names: "bash|zsh|fish",
	about: "print a shell's completion of commands, flags, their values and sites",
	synopsis: "Prints what a shell reads to complete commands, flags, the values that they take, and the names of sites. For bash: vessik " +
		"completion bash > ~/.local/share/bash-completion/completions/vessik",
	example: "source <(vessik completion bash)\nvessik completion fish > ~/.config/fish/completions/vessik.fish", run: runCompletion}

func runCompletion(ctx context.Context, c *call) error {
	if err := c.parse(); err != nil {
		return err
	}
	if len(c.names) == 3 && c.names[0] == "words" { // asked by the shells
		return c.completeWords(ctx, c.names[1], c.names[2])
	}
	names, about := []string{}, []string{}
	for _, each := range commands {
		names, about = append(names, each.name), append(about, each.name+":"+each.about)
	}
	switch strings.Join(c.names, " ") {
	case "bash":
		fmt.Fprintf(c.out, bashCompletion, strings.Join(names, " "))
	case "zsh":
		fmt.Fprintf(c.out, zshCompletion, "'"+strings.Join(escaped(about), "' '")+"'")
	case "fish":
		fmt.Fprint(c.out, fishCompletion)
		for _, each := range commands {
			fmt.Fprintf(c.out, "complete -c vessik -n __fish_use_subcommand -a %s -d '%s'\n", each.name, escaped([]string{each.about})[0])
		}
	default:
		return usageError{"name a shell: bash, zsh or fish"}
	}
	return nil
}

// Completions are asked word by word; exit code 1 says that files fit as well.
const (
	bashCompletion = `# Completion of vessik for bash.
_vessik() {
    local current="${COMP_WORDS[COMP_CWORD]}" found files
    if [ "$COMP_CWORD" -eq 1 ]; then
        COMPREPLY=($(compgen -W "%s" -- "$current"))
    elif [[ "$current" == -* ]]; then
        COMPREPLY=($(compgen -W "$(vessik "${COMP_WORDS[1]}" -h 2>/dev/null | sed -n 's/^  \(-[a-z-]*\).*/\1/p')" -- "$current"))
    else
        found="$(vessik completion words "${COMP_WORDS[1]}" "_${COMP_WORDS[COMP_CWORD-1]}" 2>/dev/null)"
        files=$?
        COMPREPLY=($(compgen -W "$found" -- "$current"))
        if [ "$files" -ne 0 ]; then COMPREPLY+=($(compgen -f -- "$current")); fi
    fi
}
complete -F _vessik vessik
`
	zshCompletion = `#compdef vessik
# Completion of vessik for zsh.
_vessik() {
    local -a commands flags found
    local files
    commands=(%s)
    if (( CURRENT == 2 )); then
        _describe command commands
    elif [[ "$PREFIX" == -* ]]; then
        flags=(${(f)"$(vessik ${words[2]} -h 2>/dev/null | sed -n 's/^  \(-[a-z-]*\).*/\1/p')"})
        compadd -a flags
    else
        found=(${(f)"$(vessik completion words ${words[2]} _${words[CURRENT-1]} 2>/dev/null)"})
        files=$?
        compadd -a found
        if (( files != 0 )); then _files; fi
    fi
}
compdef _vessik vessik
`
	fishCompletion = `# Completion of vessik for fish.
function __vessik_words
    set -l before (commandline -opc)
    vessik completion words $before[2] _$before[-1] 2>/dev/null
end
complete -c vessik -n 'not __fish_use_subcommand; and __vessik_words >/dev/null' -f -a "(__vessik_words)"
complete -c vessik -n 'not __fish_use_subcommand; and string match -q -- "-*" (commandline -ct)' \
    -a "(vessik (commandline -opc)[2] -h 2>/dev/null | sed -n 's/^  \(-[a-z-]*\).*/\1/p')"
`
)

// completeWords prints what may stand behind a word of a command: a value of the flag that it is, or a word of the command's own, or a
// site. The word has an underscore in front, so that it is never taken for a flag of this command.
func (c *call) completeWords(ctx context.Context, name, previous string) error {
	previous = strings.TrimPrefix(previous, "_")
	i := slices.IndexFunc(commands, func(each command) bool { return each.name == name })
	if i < 0 {
		return exitCode(exitFailed)
	}
	service, err := c.client()
	if err != nil {
		return exitCode(exitFailed)
	}
	var found []string
	files := false
	if flag := strings.TrimLeft(previous, "-"); flag != previous && takesValue(ctx, name, flag) {
		found, err = flagValues(ctx, service, flag)
		files = len(found) == 0
	} else {
		found, files, err = ownWords(ctx, service, commands[i], previous)
	}
	fmt.Fprint(c.out, strings.Join(append(found, ""), "\n"))
	if err != nil || files {
		return exitCode(exitFailed)
	}
	return nil
}

// takesValue tells by a command's own help whether one of its flags is followed by a value.
func takesValue(ctx context.Context, name, flag string) bool {
	var help bytes.Buffer
	run(ctx, []string{name, "-h"}, &help, &help)
	return regexp.MustCompile(`(?m)^  -` + regexp.QuoteMeta(flag) + ` \w+`).Match(help.Bytes())
}

var firstWords = regexp.MustCompile(`^[a-z]+(\|[a-z]+)*`)

// ownWords are the words that a command begins with, and names of sites; files fit where its form says so.
func ownWords(ctx context.Context, service *client.Client, of command, previous string) (found []string, files bool, err error) {
	if first := firstWords.FindString(strings.TrimPrefix(of.names, "[")); first != "" && previous == of.name {
		found = strings.Split(first, "|")
	}
	switch {
	case of.name == "stencil":
		more, err := flagValues(ctx, service, "stencil")
		return append(found, more...), true, err
	case of.name == "cms":
		more, err := flagValues(ctx, service, "cms")
		return append(found, more...), false, err
	case of.name == "engines":
		more, err := flagValues(ctx, service, "engine")
		return append(found, more...), false, err
	}
	sites, err := service.Sites(ctx, false)
	for _, s := range sites {
		found = append(found, s.Name)
	}
	return found, strings.Contains(of.names, "FILE") || strings.Contains(of.names, "FOLDER"), err
}

// flagValues are what a flag may be given; none where anything will do, such as a file.
func flagValues(ctx context.Context, service *client.Client, flag string) (found []string, err error) {
	switch flag {
	case "php", "web", "database", "engine":
		engines, err := service.Engines(ctx)
		for _, e := range engines.Engines {
			if e.Kind == flag || flag == "engine" {
				found = append(found, e.ID)
			}
		}
		return found, err
	case "stencil":
		stencils, err := service.Stencils(ctx)
		for _, s := range stencils {
			found = append(found, s.Name)
		}
		return found, err
	case "cms", "cms-version", "touch", "language":
		page, err := service.CMS(ctx)
		for _, k := range page.CMS {
			found = append(found, ofCMS(k, flag)...)
		}
		slices.Sort(found)
		return slices.Compact(found), err
	case "plugin", "theme":
		shelf, err := service.Shelf(ctx)
		for _, item := range shelf.Items {
			if item.Kind == flag {
				found = append(found, item.Name)
			}
		}
		return found, err
	case "group":
		sites, err := service.Sites(ctx, false)
		for _, s := range sites {
			if s.Group != "" && !slices.Contains(found, s.Group) {
				found = append(found, s.Group)
			}
		}
		return found, err
	case "network":
		return []string{"folders", "domains"}, nil
	}
	return nil, nil
}

// ofCMS are the values of a flag that one CMS knows.
func ofCMS(k client.CMSInfo, flag string) (found []string) {
	switch flag {
	case "cms":
		return []string{k.Name}
	case "cms-version":
		return append(k.Versions, "newest")
	case "language":
		return k.Languages
	}
	for _, touch := range k.Touches {
		name := touch.Name
		if touch.Value != "" {
			name += "="
		}
		found = append(found, name)
	}
	return found
}

func escaped(texts []string) []string {
	out := make([]string, len(texts))
	for i, text := range texts {
		out[i] = strings.ReplaceAll(text, "'", `'\''`)
	}
	return out
}
