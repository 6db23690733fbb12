package api

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// schemaOf is the JSON schema of one type of the API, with those that it refers to.
func schemaOf(t *testing.T, name, title string) []byte {
	t.Helper()
	_, api := (&API{Port: 20070}).Handler()
	document, err := json.Marshal(api)
	require.NoError(t, err)
	var read struct {
		Components struct {
			Schemas map[string]map[string]any `json:"schemas"`
		} `json:"components"`
	}
	require.NoError(t, json.Unmarshal([]byte(strings.ReplaceAll(string(document), "#/components/schemas/", "#/$defs/")), &read))
	schema, defined := read.Components.Schemas[name], map[string]any{}
	var follow func(of any)
	follow = func(of any) {
		switch of := of.(type) {
		case map[string]any:
			if to, ok := of["$ref"].(string); ok {
				to = strings.TrimPrefix(to, "#/$defs/")
				if _, known := defined[to]; !known {
					defined[to] = read.Components.Schemas[to]
					follow(read.Components.Schemas[to])
				}
			}
			for _, each := range of {
				follow(each)
			}
		case []any:
			for _, each := range of {
				follow(each)
			}
		}
	}
	follow(map[string]any(schema))
	delete(schema["properties"].(map[string]any), "$schema")
	schema["$schema"], schema["title"], schema["$defs"] = "https://json-schema.org/draft/2020-12/schema", title, defined
	text, err := json.MarshalIndent(schema, "", "  ")
	require.NoError(t, err)
	return append(text, '\n')
}

// The schema that is published is that of what is written; VESSIK_SCHEMAS=1 writes it anew.
func TestTheSchemaOfParcels(t *testing.T) {
	const path = "../../docs/parcel.schema.json"
	schema := schemaOf(t, "Parcel", "parcel.json of a Vessik parcel")
	if os.Getenv("VESSIK_SCHEMAS") != "" {
		require.NoError(t, os.WriteFile(path, schema, 0o644))
	}
	written, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.JSONEq(t, string(schema), string(written))
}
