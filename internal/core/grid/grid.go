// Package grid writes the statements by which a table of a database is paged through by its key, filtered, sorted and edited. It asks
// nobody: values stand beside the statements.
package grid

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// Shown is how many characters, or bytes where it is binary, of a long value are read for a page.
const Shown = 300

// Column is one of a table's, as information_schema has it.
type Column struct {
	Name      string
	Type      string // of data, in lower case, such as varchar
	Generated bool   // its value cannot be set
}

// long types hold more than is shown; binary ones no text; inexact ones are not equal to what they read.
var (
	long    = []string{"tinytext", "text", "mediumtext", "longtext", "tinyblob", "blob", "mediumblob", "longblob", "json"}
	binary  = []string{"tinyblob", "blob", "mediumblob", "longblob", "binary", "varbinary", "bit", "geometry", "point", "polygon"}
	inexact = []string{"float"}
	whole   = []string{"tinyint", "smallint", "mediumint", "int", "bigint"}
)

// IsLong tells whether values may be longer than what is shown of them.
func (c Column) IsLong() bool { return slices.Contains(long, c.Type) }

// IsBinary tells whether values are no text.
func (c Column) IsBinary() bool { return slices.Contains(binary, c.Type) }

// IsText tells whether values are texts of any length.
func (c Column) IsText() bool {
	return strings.HasSuffix(c.Type, "char") || strings.HasSuffix(c.Type, "text") || c.Type == "json"
}

// Table is what of a table its statements need.
type Table struct {
	Name    string
	Columns []Column
	Key     []string // columns that tell a row from all others; none where nothing does
}

// Column is one by its name.
func (t Table) Column(name string) (Column, bool) {
	i := slices.IndexFunc(t.Columns, func(c Column) bool { return c.Name == name })
	if i < 0 {
		return Column{}, false
	}
	return t.Columns[i], true
}

// Jumps tells whether a place in the table is found by its key alone: by a number, between the first and the last.
func (t Table) Jumps() bool {
	if len(t.Key) != 1 {
		return false
	}
	c, _ := t.Column(t.Key[0])
	return slices.Contains(whole, c.Type)
}

// Filter is one condition; Op is a key of conditions.
type Filter struct {
	Column string `json:"column"`
	Op     string `json:"op" enum:"is,is_not,contains,begins,above,below,null,not_null"`
	Value  string `json:"value,omitempty"`
}

var conditions = map[string]string{"is": "%s = ?", "is_not": "(%s <> ? OR %[1]s IS NULL)", "contains": "%s LIKE ?", "begins": "%s LIKE ?",
	"above": "%s > ?", "below": "%s < ?", "null": "%s IS NULL", "not_null": "%s IS NOT NULL"}

// Cursor is where a page begins: after a row, whose values of the sorted column and the key these are, or so many rows from the start.
type Cursor struct {
	After []*string `json:"v,omitempty"`
	Rows  int64     `json:"o,omitempty"`
}

// Text is how a cursor is handed out.
func (c Cursor) Text() string {
	text, err := json.Marshal(c)
	if err != nil {
		return "" // strings and numbers always can
	}
	return base64.RawURLEncoding.EncodeToString(text)
}

// CursorOf reads what was handed out; the zero one for no text.
func CursorOf(text string) (c Cursor, err error) {
	if text == "" {
		return c, nil
	}
	raw, err := base64.RawURLEncoding.DecodeString(text)
	if err == nil {
		err = json.Unmarshal(raw, &c)
	}
	if err != nil || c.Rows < 0 {
		return Cursor{}, fmt.Errorf("%q is none that was handed out", text)
	}
	return c, nil
}

// Ask is which rows are wanted.
type Ask struct {
	Sort       string // column; by the key where empty
	Descending bool
	Filters    []Filter
	From       Cursor
	Limit      int
}

// Name writes a name as SQL has it.
func Name(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

// order are the columns by which an ask sorts; exact is false where a row cannot be found again by them.
func (t Table) order(a Ask) (columns []string, exact bool) {
	exact = len(t.Key) > 0
	if a.Sort != "" {
		c, _ := t.Column(a.Sort)
		exact = exact && !slices.Contains(inexact, c.Type) && !c.IsLong()
		columns = []string{a.Sort}
	}
	for _, each := range t.Key {
		if each != a.Sort {
			columns = append(columns, each)
		}
	}
	return columns, exact
}

// Select is the statement for a page, one row longer than wanted to tell whether more come. What is read of a column are its value,
// shortened, and, of long ones, its length behind it; last come the values that the next cursor is made of.
func (t Table) Select(a Ask) (query string, values []any, err error) {
	if _, known := t.Column(a.Sort); a.Sort != "" && !known {
		return "", nil, fmt.Errorf("%s has no column %q to sort by", t.Name, a.Sort)
	}
	where, values, err := t.where(a.Filters)
	if err != nil {
		return "", nil, err
	}
	order, exact := t.order(a)
	from, reads := "", t.reads()
	if exact {
		for _, each := range order {
			reads = append(reads, Name(each))
		}
		if a.From.After != nil {
			if len(a.From.After) != len(order) {
				return "", nil, fmt.Errorf("the cursor is of another order")
			}
			beyond, more := after(order, a.From.After, a.Descending)
			where, values = append(where, beyond), append(values, more...)
		}
	}
	if a.From.Rows > 0 {
		from = fmt.Sprintf(" OFFSET %d", a.From.Rows)
	}
	query = "SELECT " + strings.Join(reads, ", ") + " FROM " + Name(t.Name)
	if len(where) > 0 {
		query += " WHERE " + strings.Join(where, " AND ")
	}
	if len(order) > 0 {
		direction := map[bool]string{true: " DESC"}[a.Descending]
		sorted := []string{}
		for _, each := range order {
			sorted = append(sorted, Name(each)+direction)
		}
		query += " ORDER BY " + strings.Join(sorted, ", ")
	}
	return query + fmt.Sprintf(" LIMIT %d", a.Limit+1) + from, values, nil
}

// reads are what is read of all columns.
func (t Table) reads() (reads []string) {
	for _, c := range t.Columns {
		if c.IsLong() {
			length := map[bool]string{true: "LENGTH", false: "CHAR_LENGTH"}[c.IsBinary()]
			reads = append(reads, fmt.Sprintf("LEFT(%s, %d)", Name(c.Name), Shown), length+"("+Name(c.Name)+")")
		} else {
			reads = append(reads, Name(c.Name))
		}
	}
	return reads
}

func (t Table) where(filters []Filter) (conditionsOf []string, values []any, err error) {
	for _, f := range filters {
		form, known := conditions[f.Op]
		if _, there := t.Column(f.Column); !known || !there {
			return nil, nil, fmt.Errorf("%s has no column %q, or %q is no condition", t.Name, f.Column, f.Op)
		}
		conditionsOf = append(conditionsOf, fmt.Sprintf(form, Name(f.Column)))
		pattern := strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(f.Value)
		switch f.Op {
		case "contains":
			values = append(values, "%"+pattern+"%")
		case "begins":
			values = append(values, pattern+"%")
		case "is", "is_not", "above", "below":
			values = append(values, f.Value)
		}
	}
	return conditionsOf, values, nil
}

// after is the condition of rows beyond one, by the values that it has in the columns of an order; NULL comes before all values.
func after(order []string, at []*string, descending bool) (condition string, values []any) {
	if len(order) == 0 {
		return "FALSE", nil
	}
	name, rest := Name(order[0]), ""
	further, more := after(order[1:], at[1:], descending)
	compare := map[bool]string{false: ">", true: "<"}[descending]
	if at[0] == nil {
		rest = "(" + name + " IS NULL AND " + further + ")"
		if descending {
			return rest, more
		}
		return "(" + name + " IS NOT NULL OR " + rest + ")", more
	}
	beyond := name + " " + compare + " ?"
	if descending {
		beyond += " OR " + name + " IS NULL"
	}
	if further == "FALSE" {
		return "(" + beyond + ")", []any{*at[0]}
	}
	return "(" + beyond + " OR (" + name + " = ? AND " + further + "))", append([]any{*at[0], *at[0]}, more...)
}

// Next is the cursor behind a page's last row: by the values that were read for it, or by the number of rows so far.
func (t Table) Next(a Ask, last []*string, rows int) Cursor {
	order, exact := t.order(a)
	if exact {
		return Cursor{After: last[len(last)-len(order):]}
	}
	return Cursor{Rows: a.From.Rows + int64(rows)}
}

// Value is what a column is set to, or what it was; nil for NULL.
type Value struct {
	Column string  `json:"column"`
	Value  *string `json:"value" doc:"null for NULL; of binary columns base64"`
}

func (t Table) settable(values []Value) ([]any, error) {
	given := []any{}
	for _, v := range values {
		c, known := t.Column(v.Column)
		switch {
		case !known:
			return nil, fmt.Errorf("%s has no column %q", t.Name, v.Column)
		case v.Value == nil:
			given = append(given, nil)
		case c.IsBinary():
			raw, err := base64.StdEncoding.DecodeString(*v.Value)
			if err != nil {
				return nil, fmt.Errorf("the value of %s is binary, and to be given as base64", v.Column)
			}
			given = append(given, raw)
		default:
			given = append(given, *v.Value)
		}
	}
	return given, nil
}

// ErrNoKey says that no row can be told from the others.
var ErrNoKey = fmt.Errorf("the table has no key, so that no row can be told from the others; change it by a query")

// row is the condition of one row: its key, and what else it is expected to be.
func (t Table) row(key, was []Value) (condition string, values []any, err error) {
	if len(t.Key) == 0 {
		return "", nil, ErrNoKey
	}
	parts := []string{}
	for _, name := range t.Key {
		if !slices.ContainsFunc(key, func(v Value) bool { return v.Column == name && v.Value != nil }) {
			return "", nil, fmt.Errorf("the row's key lacks %s", name)
		}
	}
	for _, v := range slices.Concat(key, was) {
		parts = append(parts, Name(v.Column)+" <=> ?")
	}
	values, err = t.settable(slices.Concat(key, was))
	return strings.Join(parts, " AND "), values, err
}

// Read is the statement for one row, whole.
func (t Table) Read(key []Value) (query string, values []any, err error) {
	condition, values, err := t.row(key, nil)
	names := []string{}
	for _, c := range t.Columns {
		names = append(names, Name(c.Name))
	}
	return "SELECT " + strings.Join(names, ", ") + " FROM " + Name(t.Name) + " WHERE " + condition + " LIMIT 2", values, err
}

// Update is the statement that changes one row, if it is still what it was.
func (t Table) Update(key, was, set []Value) (query string, values []any, err error) {
	condition, where, err := t.row(key, was)
	if err != nil {
		return "", nil, err
	}
	values, err = t.settable(set)
	parts := []string{}
	for _, v := range set {
		parts = append(parts, Name(v.Column)+" = ?")
	}
	if len(parts) == 0 && err == nil {
		err = fmt.Errorf("name what is to be changed")
	}
	return "UPDATE " + Name(t.Name) + " SET " + strings.Join(parts, ", ") + " WHERE " + condition + " LIMIT 1", append(values, where...), err
}

// Is is the statement that tells whether a row is what it was, and what it was to be set to already.
func (t Table) Is(key, was, set []Value) (query string, values []any, err error) {
	condition, values, err := t.row(key, slices.Concat(was, set))
	return "SELECT EXISTS (SELECT 1 FROM " + Name(t.Name) + " WHERE " + condition + ")", values, err
}

// Delete is the statement that removes one row.
func (t Table) Delete(key []Value) (query string, values []any, err error) {
	condition, values, err := t.row(key, nil)
	return "DELETE FROM " + Name(t.Name) + " WHERE " + condition + " LIMIT 1", values, err
}

// Insert is the statement for a new row; columns that are not named are as the table has them.
func (t Table) Insert(set []Value) (query string, values []any, err error) {
	values, err = t.settable(set)
	names, places := []string{}, []string{}
	for _, v := range set {
		names, places = append(names, Name(v.Column)), append(places, "?")
	}
	return "INSERT INTO " + Name(t.Name) + " (" + strings.Join(names, ", ") + ") VALUES (" + strings.Join(places, ", ") + ")", values, err
}
