package database

import (
	"encoding/csv"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestARecordThatDoesNotEndIsRefused(t *testing.T) {
	endless := io.MultiReader(strings.NewReader("a,\"b"), strings.NewReader(strings.Repeat("moss ", 1<<20)))
	_, err := csv.NewReader(&bounded{Reader: endless, left: 1 << 20}).Read()
	assert.ErrorContains(t, err, "is a quote missing?")
	record, err := csv.NewReader(&bounded{Reader: strings.NewReader("a,b\n"), left: 10}).Read()
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "b"}, record)
}
