// Package yamltext reads YAML strictly, and says where in a text something is wrong. It computes only.
package yamltext

import (
	"fmt"
	"regexp"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// Fault is what is wrong with a text, and where: lines and columns begin with 1.
type Fault struct {
	Line, Column int
	Message      string
}

func (f *Fault) Error() string {
	return fmt.Sprintf("line %d, column %d: %s", f.Line, f.Column, f.Message)
}

// Text is one that was read.
type Text struct{ parsed *ast.File }

// Read reads a text into a value; what the value has no field for is a fault. An error is a *Fault.
func Read(text []byte, into any) (read Text, err error) {
	defer func() {
		if recover() != nil { // the library does so for some texts that are no YAML
			read, err = Text{}, &Fault{Line: 1, Column: 1, Message: "this cannot be read as YAML"}
		}
	}()
	if deep(text) {
		return read, &Fault{Line: 1, Column: 1, Message: fmt.Sprintf("it is nested deeper than %d levels", mostLevels)}
	}
	if err := yaml.UnmarshalWithOptions(text, into, yaml.Strict()); err != nil {
		return read, faultOf(err)
	}
	if read.parsed, err = parser.ParseBytes(text, 0); err != nil {
		return Text{}, faultOf(err)
	}
	return read, nil
}

// mostLevels bounds how deep a text may be nested: the library takes memory with the square of it.
const mostLevels = 200

// deep tells whether a text may be nested too deep: by brackets, by indentation, or by marks of lists before anything else in a line.
func deep(text []byte) bool {
	brackets, margin := 0, 0
	atStart := true
	for _, c := range text {
		switch c {
		case '[', '{':
			brackets++
		case ']', '}':
			brackets = max(brackets-1, 0)
		}
		switch {
		case c == '\n':
			margin, atStart = 0, true
		case atStart && (c == ' ' || c == '-' || c == '?' || c == ':'):
			margin++
		default:
			atStart = false
		}
		if brackets > mostLevels || margin > 2*mostLevels {
			return true
		}
	}
	return false
}

var place = regexp.MustCompile(`^\[(\d+):(\d+)\] (.*)`)

// faultOf reads the place out of the library's words.
func faultOf(err error) *Fault {
	fault := &Fault{Line: 1, Column: 1, Message: strings.Split(err.Error(), "\n")[0]}
	if match := place.FindStringSubmatch(fault.Message); match != nil {
		fmt.Sscan(match[1]+" "+match[2], &fault.Line, &fault.Column)
		fault.Message = match[3]
	}
	return fault
}

// At is a fault at a path such as sites[2].name; the beginning of the text where there is nothing at it.
func (t Text) At(path, message string) *Fault {
	line, column, _ := t.Place(path)
	return &Fault{Line: line, Column: column, Message: message}
}

// Place is where a path leads to; line and column 1 where it leads nowhere.
func (t Text) Place(path string) (line, column int, found bool) {
	at, err := yaml.PathString("$." + path)
	if err != nil || t.parsed == nil {
		return 1, 1, false
	}
	node, err := at.FilterFile(t.parsed)
	if err != nil || node == nil {
		return 1, 1, false
	}
	return node.GetToken().Position.Line, node.GetToken().Position.Column, true
}
