package cms

import (
	"bytes"
	"errors"
	"io"
	"strings"

	"vessik/internal/core/rewrite"
)

// DumpSaid is what a dump tells of itself: the base address in it, without a trailing slash, and the prefix of its tables; empty where the
// definition cannot tell.
type DumpSaid struct{ Address, Prefix string }

// hear has a definition look at a statement of a dump.
func (k *Definition) hear(said DumpSaid, statement []byte) DumpSaid {
	if said.Prefix == "" && k.Content.Marker != "" {
		if match := k.regexps[k.Content.Marker].FindSubmatch(statement[:min(len(statement), 300)]); match != nil {
			said.Prefix = string(match[1])
		}
	}
	if said.Address == "" && k.Content.Address != "" && bytes.HasPrefix(statement, []byte("INSERT")) {
		if match := k.regexps[k.Content.Address].FindSubmatch(statement); match != nil {
			said.Address = strings.TrimSuffix(string(match[1]), "/")
		}
	}
	return said
}

// Dumped is what a dump tells of itself, as far as the definition can read it.
func (k *Definition) Dumped(dump io.Reader) (said DumpSaid, err error) {
	known := k.Content.Address == "" || k.Content.Marker == ""
	for scanner := rewrite.NewScanner(dump); !known; known = said.Address != "" && said.Prefix != "" {
		statement, err := scanner.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return DumpSaid{}, err
		}
		said = k.hear(said, statement)
	}
	return said, nil
}

// Dumped asks all definitions of what a dump is that may be of any, or cut off: how many tables it makes, and by the names of the CMS what
// it tells of itself.
func (k Definitions) Dumped(dump io.Reader) (tables int, said map[string]DumpSaid) {
	said = map[string]DumpSaid{}
	for scanner := rewrite.NewScanner(dump); ; {
		statement, err := scanner.Next()
		if err != nil {
			return tables, said
		}
		if tableMade.Match(statement[:min(len(statement), 200)]) {
			tables++
		}
		for _, name := range k.Names() {
			if one := k[name]; one.Content.Marker != "" {
				said[name] = one.hear(said[name], statement)
			}
		}
	}
}
