package cms

import (
	"context"
	"database/sql"
	"fmt"
	"html"
	"strings"

	"vessik/internal/core/site"
)

// Elsewhere is a site of the CMS that is somewhere else, whose database is asked by whoever can.
type Elsewhere struct {
	*Definition
	Prefix string
	Ask    func(statement string) (rows [][]string, err error)
}

// AskOf asks a database here as that of a site elsewhere is asked.
func AskOf(ctx context.Context, pool *sql.DB) func(statement string) ([][]string, error) {
	return func(statement string) (all [][]string, err error) {
		rows, err := pool.QueryContext(ctx, statement)
		if err != nil {
			return nil, err
		}
		defer rows.Close()
		return all, scanEach(rows, func(values []sql.NullString) {
			row := make([]string, len(values))
			for i, value := range values {
				row[i] = value.String
			}
			all = append(all, row)
		})
	}
}

func (e Elsewhere) ask(query string) ([][]string, error) {
	if query == "" {
		return nil, nil
	}
	statement, err := e.write(query, Facts{Prefix: e.Prefix})
	if err != nil {
		return nil, err
	}
	return e.Ask(statement)
}

// Title is the title that the site has; empty where the definition does not say how it is found.
func (e Elsewhere) Title() (string, error) {
	rows, err := e.ask(e.Content.Title)
	if err != nil || len(rows) == 0 || len(rows[0]) == 0 {
		return "", err
	}
	if e.Content.TitleHTML {
		return html.UnescapeString(rows[0][0]), nil
	}
	return rows[0][0], nil
}

// IsNetwork tells from a configuration which mode of a network it is of; empty for none.
func (k *Definition) IsNetwork(configuration []byte) string {
	for _, known := range k.Network.Recognise {
		if k.regexps[known.Pattern].Match(configuration) {
			return known.Mode
		}
	}
	return ""
}

// SubSites are the names of a network's sub-sites, whose base address is url.
func (e Elsewhere) SubSites(mode, url string) (names []string, err error) {
	rows, err := e.ask(e.Definition.Network.Sites)
	_, base, _ := strings.Cut(url, "://")
	for _, row := range rows {
		address := strings.Trim(row[0], "/")
		name, found := strings.CutPrefix(address, base+"/")
		if mode == site.NetworkDomains {
			name, found = strings.CutSuffix(address, "."+base)
		}
		if found && !strings.ContainsAny(name, "/.") {
			names = append(names, name)
		}
	}
	return names, err
}

// Pages are the addresses, below the site's own, of what is published there.
func (e Elsewhere) Pages() (all []string, err error) {
	for _, query := range e.Walk {
		rows, err := e.ask(query)
		if err != nil {
			return all, err
		}
		for _, row := range rows {
			all = append(all, row...)
		}
	}
	return all, nil
}

// Amiss says what the site has that a live one should not.
func (e Elsewhere) Amiss(configuration []byte) (all []string, err error) {
	for _, each := range e.Live {
		texts := [][]byte{configuration}
		if each.Ask != "" {
			rows, err := e.ask(each.Ask)
			if err != nil {
				return all, err
			}
			texts = texts[:0]
			for _, row := range rows {
				texts = append(texts, []byte(strings.Join(row, "")))
			}
		}
		for _, text := range texts {
			if found := e.regexps[each.When].FindSubmatch(text); found != nil {
				value := fmt.Sprintf("%.100q", found[1])
				all = append(all, strings.ReplaceAll(each.Says, "VALUE", strings.Trim(value, `"`))+": "+each.Remedy)
				break
			}
		}
	}
	return all, nil
}

// Keeper is an administrator of a site, by name, and what is stored of the password.
type Keeper struct{ Name, Stored string }

// Keepers are the first administrators of the site.
func (e Elsewhere) Keepers(most int) (all []Keeper, err error) {
	rows, err := e.ask(e.Administrator.Users)
	for _, row := range rows {
		if len(all) == most || len(row) < 4 || row[3] != "administrator" {
			break
		}
		statement, err := e.write(e.Administrator.Password, Facts{Prefix: e.Prefix, Administrator: site.Administrator{Name: row[0]}})
		if err != nil {
			return all, err
		}
		stored, err := e.Ask(statement)
		if err != nil || len(stored) == 0 || len(stored[0]) == 0 {
			return all, err
		}
		all = append(all, Keeper{row[0], stored[0][0]})
	}
	return all, err
}

// Guessed tells which of some passwords is the keeper's; empty for none, or where nobody can tell from what is stored.
func (k *Definition) Guessed(of Keeper, passwords []string) string {
	for _, each := range passwords {
		if passwordMatches(k.asPosted(each), of.Stored) {
			return each
		}
	}
	return ""
}

// IsRestless tells whether a row of a dump, as it stands there, changes by itself. The tables of a network's sub-sites have a number behind
// the prefix.
func (k *Definition) IsRestless(prefix string) func(table, row string) bool {
	return func(table, row string) bool {
		for _, each := range k.Restless {
			if BareTable(table, prefix) == each.Table && k.regexps[each.Rows].MatchString(row) {
				return true
			}
		}
		return false
	}
}

// TellsOfPeople tells whether a table tells of people.
func (k *Definition) TellsOfPeople(table, prefix string) bool {
	for _, each := range k.People {
		if BareTable(table, prefix) == each.Table {
			return true
		}
	}
	return false
}

// BareTable is a table's name without the prefix, and without the number of a sub-site; empty where it is not of the site.
func BareTable(table, prefix string) string {
	rest, of := strings.CutPrefix(table, prefix)
	if !of {
		return ""
	}
	if digits := len(rest) - len(strings.TrimLeft(rest, "0123456789")); digits > 0 && strings.HasPrefix(rest[digits:], "_") {
		return rest[digits+1:]
	}
	return rest
}
