package yamltext

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type garden struct {
	Name string `yaml:"name"`
	Beds []struct {
		Width int `yaml:"width"`
	} `yaml:"beds"`
}

func TestFaultsTellTheirPlace(t *testing.T) {
	for text, want := range map[string]Fault{
		"name: fern\nnam: moss\n":         {2, 1, `unknown field "nam"`},
		"name: fern\nbeds:\n  - {width":   {3, 0, ""},
		"name: \nbeds:\n !../x: {}":       {1, 1, "this cannot be read as YAML"}, // the library panics
		"name: fern\nbeds: {width: wide}": {2, 0, ""},
	} {
		var g garden
		_, err := Read([]byte(text), &g)
		var fault *Fault
		require.ErrorAs(t, err, &fault, text)
		assert.Equal(t, want.Line, fault.Line, "%q: %s", text, fault)
		if want.Message != "" {
			assert.Equal(t, want, *fault)
		}
	}
}

func TestDeepTextsAreRefusedBeforeTheyAreRead(t *testing.T) {
	var g garden
	for _, text := range []string{"beds: " + strings.Repeat("[", 400_000), "beds: " + strings.Repeat("{a: ", 100_000),
		strings.Repeat("- ", 400_000) + "x", "name: fern\nbeds:\n" + strings.Repeat(" ", 1000) + "- width: 1"} {
		_, err := Read([]byte(text), &g)
		assert.ErrorContains(t, err, "nested deeper than 200 levels")
	}
	_, err := Read([]byte("name: '"+strings.Repeat("[]", 1000)+"'"), &g)
	assert.NoError(t, err)
}

func TestAPlaceIsFound(t *testing.T) {
	var g garden
	read, err := Read([]byte("name: fern\nbeds:\n  - width: 1\n  - width: 2\n"), &g)
	require.NoError(t, err)
	assert.Equal(t, "line 4, column 10: too wide", read.At("beds[1]", "too wide").Error())
	line, _, found := read.Place("beds[1].width")
	assert.True(t, found)
	assert.Equal(t, 4, line)
	_, _, found = read.Place("beds[7]")
	assert.False(t, found)
	assert.Equal(t, 1, read.At("beds[7]", "is not there").Line)
}
