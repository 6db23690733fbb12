package wire

import (
	"vessik/internal/core/grid"
	"vessik/internal/core/rewrite"
)

// DatabasePage is a site's database, and what is in it.
type DatabasePage struct {
	Engine string `json:"engine"`
	Host   string `json:"host"`
	Port   int    `json:"port"`
	Name   string `json:"name"`
	User   string `json:"user"`
	// Password and URL are told where they are asked for.
	Password string          `json:"password,omitempty"`
	URL      string          `json:"url,omitempty" doc:"For database programs" example:"mysql://fernhollow:…@127.0.0.1:22010/fernhollow"`
	Tables   []DatabaseTable `json:"tables" nullable:"false"`
}

// DatabaseTable is a table or a view.
type DatabaseTable struct {
	Name      string   `json:"name"`
	View      bool     `json:"view"`
	Rows      int64    `json:"rows" doc:"As the server estimates it"`
	Bytes     int64    `json:"bytes" doc:"With its indexes"`
	Engine    string   `json:"engine"`
	Collation string   `json:"collation"`
	Columns   []string `json:"columns,omitempty" doc:"Where they are asked for"`
}

// TableStructure is how a table is made up.
type TableStructure struct {
	Name    string        `json:"name"`
	Columns []TableColumn `json:"columns" nullable:"false"`
	Indexes []TableIndex  `json:"indexes" nullable:"false"`
	Key     []string      `json:"key" nullable:"false" doc:"Columns that tell a row from all others; none where nothing does"`
	Jumps   bool          `json:"jumps" doc:"A place in the middle is found at once"`
}

// TableColumn is a column of a table.
type TableColumn struct {
	Name      string  `json:"name"`
	Type      string  `json:"type" example:"varchar(255)"`
	Null      bool    `json:"null" doc:"It may be NULL"`
	Default   *string `json:"default" doc:"null for none"`
	Extra     string  `json:"extra,omitempty" example:"auto_increment"`
	Collation string  `json:"collation,omitempty"`
	Binary    bool    `json:"binary"`
	Generated bool    `json:"generated"`
}

// TableIndex is an index of a table.
type TableIndex struct {
	Name    string   `json:"name"`
	Unique  bool     `json:"unique"`
	Columns []string `json:"columns" nullable:"false"`
}

// DatabaseValue is one value: its text, or for binary columns its bytes in base64; long ones are cut in a page.
type DatabaseValue struct {
	Null   bool   `json:"null,omitempty"`
	Text   string `json:"text,omitempty"`
	Length int64  `json:"length,omitempty" doc:"Where it was cut: of all of it, in characters, or in bytes if it is binary"`
}

// AskRows is which rows of a table are wanted.
type AskRows struct {
	Sort       string        `json:"sort,omitempty" doc:"Column; by the key where empty"`
	Descending bool          `json:"descending,omitempty"`
	Filters    []grid.Filter `json:"filters,omitempty"`
	From       string        `json:"from,omitempty" doc:"Cursor of the page before"`
	At         float64       `json:"at,omitempty" minimum:"0" maximum:"1" doc:"Instead: a part of the way from the first to the last row"`
	Limit      int           `json:"limit,omitempty" minimum:"0" maximum:"1000" doc:"Rows; 100 where it is 0"`
}

// TableRows are rows of a table.
type TableRows struct {
	Rows         [][]DatabaseValue `json:"rows" nullable:"false" doc:"A value a column, in the order of the structure"`
	Next         string            `json:"next,omitempty" doc:"Cursor of the next page; empty where no more come"`
	Milliseconds int64             `json:"milliseconds"`
}

// TableRow names one row by its key.
type TableRow struct {
	Key []grid.Value `json:"key"`
}

// ChangeRow asks for a change of one row.
type ChangeRow struct {
	Key []grid.Value `json:"key"`
	Was []grid.Value `json:"was,omitempty" doc:"What is expected to stand there; else nothing is changed"`
	Set []grid.Value `json:"set"`
}

// NewRow asks for a new row; columns that are not named are as the table has them.
type NewRow struct {
	Set []grid.Value `json:"set"`
}

// Affected says how many rows are changed.
type Affected struct {
	Rows int64 `json:"rows"`
}

// AskQuery asks a site's database, as the site's own user.
type AskQuery struct {
	SQL     string `json:"sql" maxLength:"16777216" doc:"One or more statements"`
	Limit   int64  `json:"limit,omitempty" minimum:"0" doc:"Rows of each result; all where it is 0"`
	Preview bool   `json:"preview,omitempty" doc:"Carry out nothing: tell how many rows would be changed"`
}

// QueryLine is a line of what a query answers: the columns of a result, a row, its end, or what went wrong.
type QueryLine struct {
	Columns []QueryColumn `json:"columns,omitempty"`
	Row     []*string     `json:"row,omitempty" doc:"null for NULL; of binary columns base64"`
	End     *QueryEnd     `json:"end,omitempty"`
	Error   string        `json:"error,omitempty"`
}

// QueryColumn is a column of a result.
type QueryColumn struct {
	Name   string `json:"name"`
	Type   string `json:"type" example:"VARCHAR"`
	Binary bool   `json:"binary,omitempty"`
}

// QueryEnd is the end of one statement's result.
type QueryEnd struct {
	Rows         int64 `json:"rows" doc:"That were read"`
	Cut          bool  `json:"cut,omitempty" doc:"More would have come"`
	Affected     int64 `json:"affected" doc:"That were changed, or would be"`
	Milliseconds int64 `json:"milliseconds"`
}

// FoundText is how often a text stands in a column.
type FoundText struct {
	Table  string `json:"table"`
	Column string `json:"column"`
	Rows   int64  `json:"rows"`
}

// AskReplace asks that one text takes the place of another, everywhere in a site's database.
type AskReplace struct {
	Text    string `json:"text" doc:"Upper and lower case are told apart"`
	With    string `json:"with"`
	Preview bool   `json:"preview,omitempty" doc:"Change nothing: tell what would be changed"`
}

// Replaced is what was replaced, or would be.
type Replaced struct {
	Columns   []ReplacedColumn `json:"columns" nullable:"false"`
	Left      []rewrite.Left   `json:"left" nullable:"false" doc:"Values that were left alone; the first 100"`
	LeftCount int              `json:"left_count"`
}

// ReplacedColumn is what was replaced in one column.
type ReplacedColumn struct {
	Table    string            `json:"table"`
	Column   string            `json:"column"`
	Rows     int64             `json:"rows"`
	Places   int64             `json:"places" doc:"At which the text stood"`
	Examples []ReplacedExample `json:"examples" nullable:"false" doc:"The first three"`
}

// ReplacedExample is a part of one value, before and after.
type ReplacedExample struct {
	Before string `json:"before"`
	After  string `json:"after"`
}
