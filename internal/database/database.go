// Package database lets a site's own database be seen and edited, as the site's own user: with that user's privileges, and never more.
package database

import (
	"context"
	"database/sql"
	"fmt"
	"net/url"
	"strconv"

	"vessik/internal/core/grid"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/running"
)

// Feature opens the databases of one machine's sites.
type Feature struct{ Machine *running.Machine }

// open is a site's database; its server runs until release is called, also where the site is stopped.
func (f *Feature) open(ctx context.Context, name string) (s site.Site, pool *sql.DB, release func(), err error) {
	s, known := f.Machine.Registry.Site(site.ASCII(name))
	if !known {
		return s, nil, nil, site.NoSite(name)
	}
	pool, release, err = f.Machine.Pool(ctx, s)
	return s, pool, release, err
}

// Page is a site's database and its tables. secrets has it tell how other programs open it, columns which columns there are.
func (f *Feature) Page(ctx context.Context, name string, secrets, columns bool) (wire.DatabasePage, error) {
	s, pool, release, err := f.open(ctx, name)
	if err != nil {
		return wire.DatabasePage{}, err
	}
	defer release()
	d := s.Database
	page := wire.DatabasePage{Engine: s.Stack.Database, Host: "127.0.0.1", Port: f.Machine.DatabasePort(s.Stack.Database), Name: d.Name,
		User: d.User}
	if secrets {
		address := url.URL{Scheme: "mysql", User: url.UserPassword(d.User, d.Password), Host: page.Host + ":" + strconv.Itoa(page.Port),
			Path: "/" + d.Name}
		page.Password, page.URL = d.Password, address.String()
	}
	if page.Tables, err = tablesOf(ctx, pool); err == nil && columns {
		err = columnsOf(ctx, pool, page.Tables)
	}
	return page, err
}

// columnsOf names the columns of tables.
func columnsOf(ctx context.Context, pool *sql.DB, tables []wire.DatabaseTable) error {
	of := map[string]*wire.DatabaseTable{}
	for i := range tables {
		of[tables[i].Name] = &tables[i]
	}
	rows, err := pool.QueryContext(ctx, "SELECT TABLE_NAME, COLUMN_NAME FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = DATABASE() "+
		"ORDER BY TABLE_NAME, ORDINAL_POSITION")
	if err != nil {
		return refused(err)
	}
	defer rows.Close()
	for rows.Next() {
		var table, column string
		if err := rows.Scan(&table, &column); err != nil {
			return err
		}
		if t := of[table]; t != nil {
			t.Columns = append(t.Columns, column)
		}
	}
	return rows.Err()
}

func tablesOf(ctx context.Context, pool *sql.DB) ([]wire.DatabaseTable, error) {
	all := []wire.DatabaseTable{}
	rows, err := pool.QueryContext(ctx, `SELECT TABLE_NAME, TABLE_TYPE = 'VIEW', COALESCE(TABLE_ROWS, 0),
		COALESCE(DATA_LENGTH, 0) + COALESCE(INDEX_LENGTH, 0), COALESCE(ENGINE, ''), COALESCE(TABLE_COLLATION, '')
		FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() ORDER BY TABLE_NAME`)
	if err != nil {
		return nil, refused(err)
	}
	defer rows.Close()
	for rows.Next() {
		t := wire.DatabaseTable{}
		if err := rows.Scan(&t.Name, &t.View, &t.Rows, &t.Bytes, &t.Engine, &t.Collation); err != nil {
			return nil, err
		}
		all = append(all, t)
	}
	return all, rows.Err()
}

// refused is what the server says of what it was asked.
func refused(err error) error {
	return site.Problems{{Field: "database", Message: err.Error(), Remedy: "mend what it says, then ask again"}}
}

// Structure is how one table is made up.
func (f *Feature) Structure(ctx context.Context, name, table string) (wire.TableStructure, error) {
	_, pool, release, err := f.open(ctx, name)
	if err != nil {
		return wire.TableStructure{}, err
	}
	defer release()
	_, structure, err := structureOf(ctx, pool, table)
	return structure, err
}

func structureOf(ctx context.Context, pool *sql.DB, table string) (grid.Table, wire.TableStructure, error) {
	t := grid.Table{Name: table}
	s := wire.TableStructure{Name: table, Columns: []wire.TableColumn{}, Indexes: []wire.TableIndex{}, Key: []string{}}
	rows, err := pool.QueryContext(ctx, `SELECT COLUMN_NAME, COLUMN_TYPE, DATA_TYPE, IS_NULLABLE = 'YES', COLUMN_DEFAULT, EXTRA,
		COALESCE(COLLATION_NAME, ''), COALESCE(IS_GENERATED, 'NEVER') <> 'NEVER'
		FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ? ORDER BY ORDINAL_POSITION`, table)
	if err != nil {
		return t, s, refused(err)
	}
	defer rows.Close()
	for rows.Next() {
		c, kind := wire.TableColumn{}, ""
		if err := rows.Scan(&c.Name, &c.Type, &kind, &c.Null, &c.Default, &c.Extra, &c.Collation, &c.Generated); err != nil {
			return t, s, err
		}
		column := grid.Column{Name: c.Name, Type: kind, Generated: c.Generated}
		c.Binary = column.IsBinary()
		t.Columns, s.Columns = append(t.Columns, column), append(s.Columns, c)
	}
	if err := rows.Err(); err != nil {
		return t, s, err
	}
	if len(t.Columns) == 0 {
		return t, s, site.Problems{{Field: "table", Message: fmt.Sprintf("there is no table %q", table), Absent: true,
			Remedy: "see their names: vessik database NAME"}}
	}
	if s.Indexes, err = indexesOf(ctx, pool, table); err != nil {
		return t, s, err
	}
	t.Key = keyOf(s)
	s.Key, s.Jumps = append(s.Key, t.Key...), t.Jumps()
	return t, s, nil
}

func indexesOf(ctx context.Context, pool *sql.DB, table string) ([]wire.TableIndex, error) {
	all := []wire.TableIndex{}
	rows, err := pool.QueryContext(ctx, `SELECT INDEX_NAME, NON_UNIQUE = 0, COLUMN_NAME FROM information_schema.STATISTICS
		WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ? ORDER BY INDEX_NAME <> 'PRIMARY', INDEX_NAME, SEQ_IN_INDEX`, table)
	if err != nil {
		return nil, refused(err)
	}
	defer rows.Close()
	for rows.Next() {
		one, column := wire.TableIndex{}, ""
		if err := rows.Scan(&one.Name, &one.Unique, &column); err != nil {
			return nil, err
		}
		if len(all) == 0 || all[len(all)-1].Name != one.Name {
			all = append(all, one)
		}
		last := &all[len(all)-1]
		last.Columns = append(last.Columns, column)
	}
	return all, rows.Err()
}

// keyOf are the columns of the primary key, or of the first unique index that has no column which may be NULL.
func keyOf(s wire.TableStructure) []string {
	null := map[string]bool{}
	for _, c := range s.Columns {
		null[c.Name] = c.Null
	}
	for _, index := range s.Indexes { // the primary one is the first
		whole := index.Unique
		for _, column := range index.Columns {
			whole = whole && !null[column]
		}
		if whole {
			return index.Columns
		}
	}
	return nil
}
