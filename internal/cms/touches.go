package cms

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"html"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"text/template"

	"vessik/internal/core/site"
	"vessik/internal/engine"
	"vessik/internal/ownfile"
)

// OwnTouches reads the user's own finishing touches from a folder: NAME.sql (with the same templates as a definition's), NAME.php (the CMS
// is loaded first) and NAME.sh (a command in the site's environment). What one does stands in its first line, as a comment.
func OwnTouches(dir string) []Touch {
	own := []Touch{}
	entries, _ := ownfile.List(dir)
	for _, entry := range entries {
		text, err := ownfile.Read(filepath.Join(dir, entry.Name()))
		if err != nil {
			continue
		}
		t := Touch{Name: entry.Name()}
		first, rest, _ := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(string(text), "<?php"), "#!/bin/sh\n"), "\n")
		t.About = strings.TrimSpace(strings.TrimLeft(strings.TrimSpace(first), "-#/ "))
		kind := filepath.Ext(entry.Name())
		switch { // where the name does not say what it is, the text may
		case kind == "" && strings.HasPrefix(string(text), "<?php"):
			kind = ".php"
		case kind == "" && strings.HasPrefix(string(text), "#!"):
			kind = ".sh"
		}
		switch kind {
		case ".sql":
			t.SQL = []string{string(text)}
		case ".php":
			t.PHP = first + "\n" + rest
		case ".sh":
			t.command = filepath.Join(dir, entry.Name())
		default:
			continue
		}
		own = append(own, t)
	}
	return own
}

// Facts are what a request is judged by.
func (t Touch) Facts() site.TouchFact {
	fact := site.TouchFact{Name: t.Name, Example: t.Value.Example}
	if t.Value.Pattern != "" {
		fact.Value = regexp.MustCompile(`\A(?:` + t.Value.Pattern + `)\z`)
	}
	return fact
}

// Toucher applies finishing touches to one site.
type Toucher struct {
	Definition *Definition
	Own        []Touch
	Pool       *sql.DB // of the site's own user
	PHP        *engine.Engine
	Site       site.Site
	Facts      Facts
	Command    func(ctx context.Context, file string) ([]byte, error) // runs one of the user's own in the site's environment
}

// Apply applies one, as it was asked for: NAME or NAME=VALUE.
func (a Toucher) Apply(ctx context.Context, asked string) error {
	name, value, _ := strings.Cut(asked, "=")
	all := append(slices.Clone(a.Definition.Touches), a.Own...)
	i := slices.IndexFunc(all, func(t Touch) bool { return t.Name == name })
	if i < 0 {
		return fmt.Errorf("there is no finishing touch %s", name)
	}
	a.Facts.Value = value
	if err := a.apply(ctx, all[i]); err != nil {
		return fmt.Errorf("the finishing touch %s: %w", name, err)
	}
	return nil
}

func (a Toucher) apply(ctx context.Context, t Touch) error {
	for _, text := range t.SQL {
		written, err := a.Definition.write(text, a.Facts)
		if a.Definition.texts[text] == nil { // the user's own
			written, err = fill(text, a.Facts)
		}
		if err != nil {
			return err
		}
		if _, err := a.Pool.ExecContext(ctx, written); err != nil {
			return err
		}
	}
	if t.PHP != "" {
		if err := a.Definition.With(ctx, a.PHP, a.Site, a.Facts, a.Facts.Value, t.PHP); err != nil {
			return err
		}
	}
	if t.command != "" {
		if out, err := a.Command(ctx, t.command); err != nil {
			return said(err, out)
		}
	}
	return nil
}

// What goes wrong in PHP is told between these.
const faultBegins, faultEnds = "vessik: what went wrong: ", "vessik: that is all of it"

// tellFaults has PHP tell what nobody caught, and where, before the CMS shows a page of its own for it.
const tellFaults = `(static function () {
    $tell = static function ($what, $file, $line) {
        $file = $file === __DIR__ . '/own.php' ? '' : " of $file";
        echo "\n` + faultBegins + `$what (line $line$file)` + faultEnds + `";
    };
    set_exception_handler(static function ($e) use ($tell) {
        $tell(get_class($e) . ': ' . $e->getMessage(), $e->getFile(), $e->getLine());
    });
    register_shutdown_function(static function () use ($tell) {
        $last = error_get_last();
        if ($last && $last['type'] & (E_ERROR | E_PARSE | E_CORE_ERROR | E_COMPILE_ERROR | E_USER_ERROR)) {
            $tell($last['message'], $last['file'], $last['line']);
        }
    });
})();
`

// With runs PHP in a site with its CMS loaded, held to the site's folder; value is in $value.
func (k *Definition) With(ctx context.Context, php *engine.Engine, s site.Site, facts Facts, value, text string) error {
	_, err := k.inside(ctx, php, s, facts, false, value, text)
	return err
}

// inside runs PHP in a site with its CMS loaded, or loaded bare, and returns what $answer has become, as JSON.
func (k *Definition) inside(ctx context.Context, php *engine.Engine, s site.Site, facts Facts, bare bool, value,
	text string) (answer []byte, err error) {
	names, first := []string{}, tellFaults
	if k.Load != "" {
		names = []string{k.Load}
	}
	if bare {
		first += k.Bare + "\n"
	}
	const done, ends = "vessik: it is done: ", "vessik: that was it"
	out, err := k.Run(ctx, Script{PHP: php, Folder: s.Folder, Root: s.DocumentRoot(), Settings: s.Settings, Port: facts.Port, Names: names,
		First: first, Own: "<?php " + text, Arguments: []string{s.DocumentRoot(), facts.URL},
		Text: "$value = " + phpString(value) + ";\nrequire __DIR__ . '/own.php';\necho '" + done +
			"', json_encode($answer ?? null), '" + ends + "';"})
	if _, told, found := strings.Cut(string(out), done); err == nil && found {
		told, _, _ = strings.Cut(told, ends)
		return []byte(told), nil
	}
	if _, told, found := strings.Cut(string(out), faultBegins); found {
		told, _, _ = strings.Cut(told, faultEnds)
		return nil, errors.New(told)
	}
	return nil, said(err, out)
}

// said is why something did not work: what it printed last, in its own words.
func said(err error, out []byte) error {
	const most = 1500
	text := strings.TrimSpace(string(out))
	if pageStart.MatchString(text) { // a CMS that gives up shows a page
		text = strings.Join(strings.Fields(html.UnescapeString(tags.ReplaceAllString(unseen.ReplaceAllString(text, " "), " "))), " ")
	}
	if len(text) > most {
		text = "… " + strings.ToValidUTF8(text[len(text)-most:], "")
	}
	if err == nil {
		err = errors.New("it ended before its last line, as by exit")
	}
	if text == "" {
		text = "it printed nothing"
	}
	return fmt.Errorf("%w: %s", err, text)
}

var (
	pageStart = regexp.MustCompile(`(?i)<(!doctype|html|body)\b`)
	unseen    = regexp.MustCompile(`(?is)<(style|script|title)\b.*?</(style|script|title)>`)
)

func fill(text string, facts Facts) (string, error) {
	t, err := template.New("touch").Funcs(functions).Option("missingkey=error").Parse(text)
	if err != nil {
		return "", err
	}
	var out strings.Builder
	err = t.Execute(&out, facts)
	return out.String(), err
}
