package yamltext

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// Faults are all that is wrong with a text, in its order.
type Faults []*Fault

func (f Faults) Error() string {
	lines := make([]string, len(f))
	for i, fault := range f {
		lines[i] = fault.Error()
	}
	return strings.Join(lines, "\n")
}

// ReadWhole is Read, but tells all that is wrong at once: an error is Faults.
func ReadWhole(text []byte, into any) (read Text, err error) {
	if read, err = Read(text, into); err == nil {
		return read, nil
	}
	var first *Fault
	if !errors.As(err, &first) {
		return read, err
	}
	faults := Faults{first}
	for _, fault := range further(text, into) {
		if fault.Line != first.Line {
			faults = append(faults, fault)
		}
	}
	slices.SortStableFunc(faults, func(a, b *Fault) int { return a.Line - b.Line })
	return Text{}, faults
}

// further goes through a text that has one fault, and finds the others, where it can be parsed at all.
func further(text []byte, into any) (faults Faults) {
	defer func() {
		if recover() != nil { // see Read
			faults = nil
		}
	}()
	if deep(text) {
		return nil
	}
	parsed, err := parser.ParseBytes(text, 0)
	if err != nil || len(parsed.Docs) == 0 {
		return nil
	}
	return faultsOf(parsed.Docs[0].Body, reflect.TypeOf(into).Elem())
}

// faultsOf are those of one node that is to become a value of a type.
func faultsOf(node ast.Node, as reflect.Type) (faults Faults) {
	switch values := node.(type) {
	case *ast.MappingNode:
		if as.Kind() == reflect.Struct {
			for _, value := range values.Values {
				faults = append(faults, faultsOfField(value, as)...)
			}
			return faults
		}
	case *ast.MappingValueNode: // a mapping of one
		if as.Kind() == reflect.Struct {
			return faultsOfField(values, as)
		}
	case *ast.SequenceNode:
		if as.Kind() == reflect.Slice {
			for _, value := range values.Values {
				faults = append(faults, faultsOf(value, as.Elem())...)
			}
			return faults
		}
	case *ast.AliasNode, *ast.AnchorNode: // what they stand for is judged where it is written, or not at all
		return nil
	}
	if err := yaml.NodeToValue(node, reflect.New(as).Interface(), yaml.Strict()); err != nil {
		at := node.GetToken().Position
		return Faults{{Line: at.Line, Column: at.Column, Message: faultOf(err).Message}}
	}
	return nil
}

func faultsOfField(value *ast.MappingValueNode, as reflect.Type) Faults {
	name := value.Key.GetToken().Value
	if _, merged := value.Key.(*ast.MergeKeyNode); merged {
		return nil
	}
	for _, field := range reflect.VisibleFields(as) {
		if own, _, _ := strings.Cut(field.Tag.Get("yaml"), ","); own == name {
			return faultsOf(value.Value, field.Type)
		}
	}
	at := value.Key.GetToken().Position
	return Faults{{Line: at.Line, Column: at.Column, Message: fmt.Sprintf("unknown field %q", name)}}
}
