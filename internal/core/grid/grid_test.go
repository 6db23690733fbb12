package grid

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var plants = Table{Name: "pla`nts", Key: []string{"bed", "place"}, Columns: []Column{{Name: "bed", Type: "varchar"},
	{Name: "place", Type: "int"}, {Name: "height", Type: "float"}, {Name: "note", Type: "text"}, {Name: "picture", Type: "blob"}}}

func text(s string) *string { return &s }

func TestAPageIsReadByItsKey(t *testing.T) {
	query, values, err := plants.Select(Ask{Limit: 10})
	require.NoError(t, err)
	assert.Equal(t, "SELECT `bed`, `place`, `height`, LEFT(`note`, 300), CHAR_LENGTH(`note`), LEFT(`picture`, 300), LENGTH(`picture`), "+
		"`bed`, `place` FROM `pla``nts` ORDER BY `bed`, `place` LIMIT 11", query)
	assert.Empty(t, values)
	query, values, err = plants.Select(Ask{Limit: 10, From: Cursor{After: []*string{text("herbs"), text("7")}},
		Filters: []Filter{{"note", "contains", `50%_\`}, {"height", "null", ""}}})
	require.NoError(t, err)
	assert.Contains(t, query, " WHERE `note` LIKE ? AND `height` IS NULL AND (`bed` > ? OR (`bed` = ? AND (`place` > ?))) ORDER BY")
	assert.Equal(t, []any{`%50\%\_\\%`, "herbs", "herbs", "7"}, values)
	_, _, err = plants.Select(Ask{Sort: "colour", Limit: 1})
	assert.ErrorContains(t, err, `no column "colour"`)
	for _, wrong := range []Filter{{"colour", "is", ""}, {"bed", "is (SELECT 1)", ""}, {"bed` OR `place", "is", ""}} {
		_, _, err = plants.Select(Ask{Filters: []Filter{wrong}, Limit: 1})
		assert.Error(t, err, wrong)
	}
}

func TestRowsWithoutAValueComeFirst(t *testing.T) {
	beds := Table{Name: "beds", Key: []string{"id"}, Columns: []Column{{Name: "id", Type: "int"}, {Name: "name", Type: "varchar"}}}
	for _, each := range []struct {
		descending bool
		name       *string
		want       string
	}{
		{false, nil, "(`name` IS NOT NULL OR (`name` IS NULL AND (`id` > ?)))"},
		{false, text("fern"), "(`name` > ? OR (`name` = ? AND (`id` > ?)))"},
		{true, nil, "(`name` IS NULL AND (`id` < ? OR `id` IS NULL))"},
		{true, text("fern"), "(`name` < ? OR `name` IS NULL OR (`name` = ? AND (`id` < ? OR `id` IS NULL)))"},
	} {
		query, _, err := beds.Select(Ask{Sort: "name", Descending: each.descending, Limit: 1,
			From: Cursor{After: []*string{each.name, text("3")}}})
		require.NoError(t, err)
		assert.Contains(t, query, " WHERE "+each.want+" ORDER BY")
	}
}

func TestWhatHasNoExactPlaceIsCounted(t *testing.T) {
	query, _, err := plants.Select(Ask{Sort: "height", From: Cursor{Rows: 40}, Limit: 20})
	require.NoError(t, err)
	assert.True(t, strings.HasSuffix(query, " ORDER BY `height`, `bed`, `place` LIMIT 21 OFFSET 40"), query)
	assert.Equal(t, Cursor{Rows: 60}, plants.Next(Ask{Sort: "height", From: Cursor{Rows: 40}}, nil, 20))
	loose := Table{Name: "loose", Columns: plants.Columns}
	query, _, err = loose.Select(Ask{Limit: 5})
	require.NoError(t, err)
	assert.NotContains(t, query, "ORDER")
	_, _, err = loose.Update([]Value{{"bed", text("herbs")}}, nil, []Value{{"place", text("1")}})
	assert.ErrorIs(t, err, ErrNoKey)
}

func TestCursorsAreReadAsTheyWereHandedOut(t *testing.T) {
	for _, c := range []Cursor{{}, {Rows: 7}, {After: []*string{nil, text("Árak"), text("")}}} {
		again, err := CursorOf(c.Text())
		require.NoError(t, err)
		assert.Equal(t, c, again)
	}
	for _, wrong := range []string{"?", "e30=", "bm90IEpTT04", Cursor{Rows: -1}.Text()} {
		_, err := CursorOf(wrong)
		assert.Error(t, err, wrong)
	}
	_, _, err := plants.Select(Ask{From: Cursor{After: []*string{text("herbs")}}, Limit: 1})
	assert.ErrorContains(t, err, "another order")
}

func TestOneRowIsChanged(t *testing.T) {
	key := []Value{{"bed", text("herbs")}, {"place", text("7")}}
	query, values, err := plants.Update(key, []Value{{"note", nil}}, []Value{{"note", text("dry")}, {"picture", text("AP8=")}})
	require.NoError(t, err)
	assert.Equal(t, "UPDATE `pla``nts` SET `note` = ?, `picture` = ? WHERE `bed` <=> ? AND `place` <=> ? AND `note` <=> ? LIMIT 1", query)
	assert.Equal(t, []any{"dry", []byte{0, 255}, "herbs", "7", nil}, values)
	query, _, err = plants.Delete(key)
	require.NoError(t, err)
	assert.Equal(t, "DELETE FROM `pla``nts` WHERE `bed` <=> ? AND `place` <=> ? LIMIT 1", query)
	query, _, err = plants.Insert(key)
	require.NoError(t, err)
	assert.Equal(t, "INSERT INTO `pla``nts` (`bed`, `place`) VALUES (?, ?)", query)
	for _, wrong := range [][]Value{{{"bed", text("herbs")}}, {{"bed", text("herbs")}, {"place", nil}}, nil} {
		_, _, err = plants.Delete(wrong)
		assert.Error(t, err, "not the whole key")
	}
	_, _, err = plants.Update(key, nil, nil)
	assert.Error(t, err)
	_, _, err = plants.Update(key, nil, []Value{{"picture", text("no base64!")}})
	assert.ErrorContains(t, err, "base64")
	_, _, err = plants.Update(key, nil, []Value{{"colour", text("red")}})
	assert.Error(t, err)
}
