package cms

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"vessik/internal/core/site"
	"vessik/internal/safefile"
)

// Configure writes what the definition says of a site's own files: its configuration, with secrets, and the files of its layout.
func (k *Definition) Configure(facts Facts) error {
	if k.Configuration.Text == "" {
		return nil
	}
	text, err := k.write(k.Configuration.Text, facts)
	if err != nil {
		return err
	}
	return safefile.WriteFile(facts.Site.Folder, k.Configuration.File, []byte(text), 0o600)
}

// ConfigurationFile is the file that holds a site's secrets; the site's folder where the definition knows none.
func (k *Definition) ConfigurationFile(s site.Site) string {
	return filepath.Join(s.Folder, k.Configuration.File)
}

// RemoveConfiguration removes it; absence is no error.
func (k *Definition) RemoveConfiguration(s site.Site) error {
	if k.Configuration.File == "" {
		return nil
	}
	return safefile.Remove(s.Folder, k.Configuration.File)
}

// Repoint has a site's configuration name another port of the database server; everything else in it stays.
func (k *Definition) Repoint(folder string, port int) error {
	return k.redefine(folder, map[string]string{"address": fmt.Sprintf("127.0.0.1:%d", port), "host": "127.0.0.1", "port": strconv.Itoa(port)})
}

// Redomain has a site's configuration name another domain, where it names one.
func (k *Definition) Redomain(folder string, facts Facts) error {
	if !slices.ContainsFunc(k.Configuration.Values, func(v Value) bool { return v.Of == "domain" }) {
		return nil
	}
	return k.redefine(folder, map[string]string{"domain": facts.HostPort()})
}

// Reconfigure has a copy's configuration name its own database; everything else in it stays.
func (k *Definition) Reconfigure(folder string, d site.Database, port int) error {
	return k.redefine(folder, map[string]string{"address": fmt.Sprintf("127.0.0.1:%d", port), "host": "127.0.0.1", "port": strconv.Itoa(port),
		"name": d.Name, "user": d.User, "password": d.Password})
}

// own are the values by which a configuration names a site's database.
var own = []string{"address", "host", "port", "name", "user", "password"}

// Named lists what Reconfigure would change in the configuration of a folder, as it is written there.
func (k *Definition) Named(folder string) ([]string, error) {
	text, err := safefile.ReadFile(folder, k.Configuration.File)
	if err != nil {
		return nil, err
	}
	names := []string{}
	for _, v := range k.Configuration.Values {
		if _, _, _, found := v.find(text); found && slices.Contains(own, v.Of) {
			names = append(names, v.String())
		}
	}
	return names, nil
}

// GiveBack puts the values of an earlier configuration into the one that a folder has now; what somebody else changed in it stays.
func (k *Definition) GiveBack(folder string, before []byte) error {
	text, err := safefile.ReadFile(folder, k.Configuration.File)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // taken away meanwhile
	}
	if err != nil {
		return err
	}
	given := text
	for _, v := range k.Configuration.Values {
		fromBefore, toBefore, _, had := v.find(before)
		from, to, _, has := v.find(given)
		if had && has && v.Of != "secret" {
			given = slices.Concat(given[:from], before[fromBefore:toBefore], given[to:])
		}
	}
	if bytes.Equal(given, text) {
		return nil
	}
	return safefile.Replace(folder, k.Configuration.File, given)
}

// Blank is a site's configuration without what is secret in it, for a stencil.
func (k *Definition) Blank(folder string) ([]byte, error) {
	text, err := safefile.ReadFile(folder, k.Configuration.File)
	if err != nil {
		return nil, err
	}
	return k.BlankText(text), nil
}

// BlankText is the text of a configuration without what is secret in it.
func (k *Definition) BlankText(text []byte) []byte {
	for _, v := range k.Configuration.Values {
		if from, to, quoted, found := v.find(text); found && quoted && v.Of != "prefix" {
			text = slices.Concat(text[:from], []byte("''"), text[to:])
		}
	}
	return text
}

// DrawConfiguration has a copy's configuration name its own database and prefix, and gives it secrets of its own.
func (k *Definition) DrawConfiguration(folder string, facts Facts) error {
	if err := k.Reconfigure(folder, facts.Database, facts.Port); err != nil {
		return err
	}
	values := map[string]string{"prefix": facts.Prefix, "stem": strings.TrimSuffix(facts.Prefix, "_"), "domain": facts.HostPort()}
	for _, v := range k.Configuration.Values {
		if v.Of == "secret" {
			values["secret "+v.Constant+v.Variable+v.Key] = token(64)
		}
	}
	return k.redefine(folder, values)
}

// pattern finds a value; its group named value holds it, inside single quotes, inside double quotes, or bare.
func (v Value) pattern() *regexp.Regexp {
	const literal = `(?:'(?P<value>(?:[^'\\]|\\.)*)'|"(?P<value2>(?:[^"\\]|\\.)*)")`
	switch {
	case v.Constant != "":
		return regexp.MustCompile(`define\(\s*['"]` + regexp.QuoteMeta(v.Constant) + `['"]\s*,\s*` + literal)
	case v.Variable != "":
		return regexp.MustCompile(`(?m)^\s*\$` + regexp.QuoteMeta(v.Variable) + `\s*=\s*` + literal)
	case v.Key != "":
		return regexp.MustCompile(`['"]` + regexp.QuoteMeta(v.Key) + `['"]\s*=>\s*` + literal)
	}
	return regexp.MustCompile(v.Pattern)
}

// find is where in a text a value stands, its quotes included; quoted tells whether it has any.
func (v Value) find(text []byte) (from, to int, quoted, found bool) {
	r := v.pattern()
	match := r.FindSubmatchIndex(text)
	if match == nil {
		return 0, 0, false, false
	}
	for i, name := range r.SubexpNames() {
		if name == "quoted" && match[2*i] >= 0 {
			return match[2*i], match[2*i+1], true, true
		}
		if strings.HasPrefix(name, "value") && match[2*i] >= 0 {
			from, to = match[2*i], match[2*i+1]
			if v.Pattern == "" {
				return from - 1, to + 1, true, true
			}
			return from, to, false, true
		}
	}
	return 0, 0, false, false
}

// Pattern is how a value is found in a configuration by those who are no Go programs: a regular expression of PCRE with its delimiters, in
// which a group named quoted, value or value2 holds it. Literal says that its quotes stand around that group.
type Pattern struct {
	Of      string `json:"of"`
	Pattern string `json:"pattern"`
	Literal bool   `json:"literal"`
}

// Patterns are those of all values of a configuration.
func (k *Definition) Patterns() []Pattern {
	all := []Pattern{}
	for _, v := range k.Configuration.Values {
		all = append(all, Pattern{v.Of, "~" + strings.ReplaceAll(v.pattern().String(), "~", `\~`) + "~", v.Pattern == ""})
	}
	return all
}

func (v Value) String() string {
	switch {
	case v.Constant != "":
		return fmt.Sprintf("define( '%s', '…' );", v.Constant)
	case v.Variable != "":
		return "$" + v.Variable + " = '…';"
	case v.Key != "":
		return fmt.Sprintf("'%s' => '…'", v.Key)
	}
	return v.Pattern
}

// redefine changes values in a configuration that anybody may have written.
func (k *Definition) redefine(folder string, values map[string]string) error {
	if len(k.Configuration.Values) == 0 {
		return nil
	}
	path := filepath.Join(folder, k.Configuration.File)
	text, err := safefile.ReadFile(folder, k.Configuration.File)
	if err != nil {
		return err
	}
	for _, v := range k.Configuration.Values {
		value, asked := values[v.Of]
		if v.Of == "secret" {
			value, asked = values["secret "+v.Constant+v.Variable+v.Key], values["secret "+v.Constant+v.Variable+v.Key] != ""
		}
		if !asked {
			continue
		}
		from, to, quoted, found := v.find(text)
		if !found && (v.Of == "secret" || v.Of == "domain") { // the site does not use it
			continue
		}
		if !found {
			return fmt.Errorf("%s does not say its database's %s with a text in quotes: write %s into it", path, v.Of, v)
		}
		if quoted {
			value = phpString(value)
		}
		text = slices.Concat(text[:from], []byte(value), text[to:])
	}
	return safefile.Replace(folder, k.Configuration.File, text)
}

// Values reads a configuration: what the definition can find in it.
func (k *Definition) Values(folder string) (map[string]string, error) {
	text, err := safefile.ReadFile(folder, k.Configuration.File)
	if err != nil {
		return nil, err
	}
	values := map[string]string{}
	for _, v := range k.Configuration.Values {
		if from, to, quoted, found := v.find(text); found {
			value := string(text[from:to])
			if quoted {
				value = unquotePHP(value)
			}
			values[v.Of] = value
		}
	}
	if values["stem"] != "" && values["prefix"] == "" {
		values["prefix"] = values["stem"] + "_"
	}
	return values, nil
}

// phpString writes a text as PHP has it in single quotes.
func phpString(value string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(value) + "'"
}

// unquotePHP reads a literal without variables in it.
func unquotePHP(literal string) string {
	quote, body := literal[:1], literal[1:len(literal)-1]
	return strings.NewReplacer(`\\`, `\`, `\`+quote, quote).Replace(body)
}

// Recognised tells which definition a folder's CMS is of, and its version where the definition can read it.
func (k Definitions) Recognised(folder string) (*Definition, string) {
	return k.Recognise(func(file string) ([]byte, error) { return safefile.ReadFile(folder, file) })
}

// Recognise is Recognised of a folder whose files are read by somebody.
func (k Definitions) Recognise(read func(file string) ([]byte, error)) (*Definition, string) {
	for _, name := range k.Names() {
		cms := k[name]
		if cms.Recognise.File == "" {
			continue
		}
		text, err := read(cms.Recognise.File)
		if err != nil {
			continue
		}
		if cms.Recognise.Version == "" {
			return cms, cms.Version
		}
		if version := cms.VersionIn(text); version != "" {
			return cms, version
		}
	}
	return nil, ""
}

// plainVersion is what a version may look like: it becomes a part of folders' names, and anybody may have written it.
var plainVersion = regexp.MustCompile(`\A[0-9A-Za-z][0-9A-Za-z.+~_-]{0,39}\z`)

// VersionIn reads the CMS's version out of the file by which it is recognised; empty where it is not there, or is none.
func (k *Definition) VersionIn(text []byte) string {
	if k.Recognise.Version == "" {
		return ""
	}
	if match := k.regexps[k.Recognise.Version].FindSubmatch(text); match != nil {
		if version := bytes.TrimSpace(match[1]); plainVersion.Match(version) {
			return string(version)
		}
	}
	return ""
}
