package rowset

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const dump = "CREATE TABLE `beds` (\n  `id` int\n);\nINSERT INTO `beds` VALUES\n('1','fern'),\n('2','a;\\nb'),\n('2','a;\\nb');\n" +
	"CREATE TABLE `none` (\n  `id` int\n);\nCREATE TABLE `odd``name` (`x` int);\nINSERT INTO `odd``name` (`x`) VALUES\n('7');\n"

func TestRowsOfADump(t *testing.T) {
	all, err := Read(strings.NewReader(dump), nil)
	require.NoError(t, err)
	require.Len(t, all, 3)
	assert.Len(t, all["beds"], 2)
	assert.Empty(t, all["none"])
	assert.Len(t, all["odd`name"], 1)
	other, err := Read(strings.NewReader("INSERT INTO `beds` VALUES\n('2','a;\\nb'),\n('1','fern');\nINSERT INTO `beds` "+
		"VALUES\n('2','a;\\nb');\n"), nil)
	require.NoError(t, err)
	assert.Equal(t, all["beds"].Sum(), other["beds"].Sum(), "the order is nothing")
	changed, err := Read(strings.NewReader("INSERT INTO `beds` VALUES\n('1','moss'),\n('2','a;\\nb');\n"), nil)
	require.NoError(t, err)
	assert.NotEqual(t, all["beds"].Sum(), changed["beds"].Sum())
	alone, others := all["beds"].Difference(changed["beds"])
	assert.Equal(t, [2]int{2, 1}, [2]int{alone, others})
	assert.Equal(t, all["beds"], Unpack(all["beds"].Pack()))
	assert.Empty(t, Unpack("no base64"))
	table := func(rows ...byte) Table {
		t := Table{}
		for _, row := range rows {
			t[[16]byte{row}]++
		}
		return t
	}
	assert.Zero(t, Lost(table(1, 2, 3), table(1, 2), table(1)), "the host made a row that is here, too")
	assert.Equal(t, 1, Lost(table(1, 3), table(1, 2), table(1)), "the host's row would go")
	assert.Equal(t, 1, Lost(table(1, 3), table(), table(1)), "and what it removed come back")
	assert.Zero(t, Lost(table(3), table(1), table(1)), "what is removed here goes")
	lean, err := Read(strings.NewReader(dump), func(table, row string) bool { return table == "beds" && strings.HasPrefix(row, "('2'") })
	require.NoError(t, err)
	assert.Len(t, lean["beds"], 1)
}
