package dump

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
)

// Kind of a statement that is carried out.
type Kind int

// What a statement is: rows of a table, the definition of something that needs nothing else, of something that may need whatever else
// the dump makes, a view (which may need other views first), a setting of the connection.
const (
	Rows Kind = iota
	Definition
	Program
	View
	Setting
)

// Late tells of definitions that are judged and carried out once the whole dump is known: only then can what they name be told.
func (k Kind) Late() bool { return k == Program || k == View }

// Judge judges the statements of one dump in their order. The zero value is ready.
type Judge struct {
	// From and To are prefixes of tables: what the dump made under the one is carried out under the other.
	From, To string
	// Again says that these statements were judged before: what is left out is not counted once more.
	Again bool

	database string          // that the dump says it is of
	made     map[string]bool // tables and views that it made, by their names in it
	left     map[string]int
	count    int // of statements
}

// Left says, a line each, what was left out because it is not a site's content.
func (j *Judge) Left() []string {
	lines := []string{}
	for _, what := range slices.Sorted(maps.Keys(j.left)) {
		lines = append(lines, fmt.Sprintf("%s (%d)", what, j.left[what]))
	}
	return lines
}

func (j *Judge) leave(what string) (string, Kind, error) {
	if j.left == nil {
		j.left = map[string]int{}
	}
	if !j.Again {
		j.left[what]++
	}
	return "", Setting, nil
}

// refuse says that a dump has something in it that is not understood as content.
func (j *Judge) refuse(what, remedy string) (string, Kind, error) {
	return "", Setting, fmt.Errorf("its statement %d %s; %s", j.count, what, remedy)
}

// aside are the first words of statements that are not content: rights, users, servers, locks, maintenance, replication, questions.
var aside = []string{"GRANT", "REVOKE", "LOCK", "UNLOCK", "FLUSH", "ANALYZE", "OPTIMIZE", "CHECK", "CHECKSUM", "REPAIR", "CHANGE",
	"STOP", "RESET", "PURGE", "INSTALL", "UNINSTALL",
	"KILL", "SHUTDOWN", "SELECT", "SHOW", "DESCRIBE", "DESC", "EXPLAIN", "HELP", "BINLOG", "SIGNAL", "CACHE"}

// Statement turns a statement of the dump into one that the site's own user can carry out in the site's database; empty where it is
// left out.
func (j *Judge) Statement(statement string) (string, Kind, error) {
	j.count++
	j.lookForDatabase(statement)
	head, _ := tokens(statement, 2)
	if len(head) == 0 {
		return "", Setting, nil
	}
	first, second := head[0], token{}
	if len(head) > 1 {
		second = head[1]
	}
	switch {
	case first.is("INSERT", "REPLACE"):
		return j.rows(statement)
	case first.is("SET"):
		return j.set(statement)
	case first.is("USE"):
		return j.use(second.bare())
	case first.is(aside...):
		return j.leave(strings.ToUpper(first.text))
	case first.is("START") && second.is("TRANSACTION"), first.is("COMMIT", "BEGIN", "ROLLBACK", "SAVEPOINT"):
		return statement, Setting, nil
	case first.is("START"):
		return j.leave("START " + strings.ToUpper(second.text))
	case first.is("CREATE", "ALTER", "DROP", "TRUNCATE", "DELETE", "UPDATE"):
		return j.define(statement)
	}
	return j.refuse(fmt.Sprintf("is %s, which is no content of a site", quoteStart(statement)),
		"take it out of the dump, or export the tables again")
}

var databaseLine = regexp.MustCompile("(?m)^-- (?:Host: .*Database:|Database:|Current Database:) *`?([^`\r\n]+?)`? *\r?$")

// lookForDatabase reads the comment in which the tools name the database.
func (j *Judge) lookForDatabase(statement string) {
	if j.database == "" && j.count < 20 && strings.HasPrefix(strings.TrimSpace(statement), "--") {
		if match := databaseLine.FindStringSubmatch(statement[:min(len(statement), 2000)]); match != nil {
			j.database = strings.Clone(match[1])
		}
	}
}

func (j *Judge) use(database string) (string, Kind, error) {
	if len(j.made) > 0 && j.database != "" && database != j.database {
		return j.refuse(fmt.Sprintf("goes on to another database, %s, after %s", database, j.database),
			"export the one database that the site uses")
	}
	j.database = strings.Clone(database)
	return j.leave("USE")
}

// rows judges INSERT and REPLACE by their head alone: what follows are values.
func (j *Judge) rows(statement string) (string, Kind, error) {
	found, rest := tokens(statement, 1)
	head := strings.ToUpper(found[0].text)
	for {
		next, after := tokens(rest, 1)
		if len(next) == 0 || !next[0].is("IGNORE", "LOW_PRIORITY", "DELAYED", "HIGH_PRIORITY", "INTO") {
			break
		}
		if next[0].is("IGNORE") {
			head += " IGNORE"
		}
		rest = after
	}
	table, after, fault := j.table(rest)
	if fault != "" {
		return j.refuse(fault, "export the one database that the site uses")
	}
	next, values := tokens(after, 1)
	if len(next) == 0 || !next[0].is("VALUES", "VALUE") && next[0].text != "(" && !next[0].is("SET") {
		return j.refuse("fills "+table+" from somewhere else than the dump", "export the rows themselves")
	}
	if next[0].text == "(" { // columns, or a query
		if inside, _ := tokens(values, 1); len(inside) > 0 && inside[0].is("SELECT", "WITH") {
			return j.refuse("fills "+table+" from a query", "export the rows themselves")
		}
	}
	return head + " INTO `" + strings.ReplaceAll(j.own(table), "`", "``") + "` " + next[0].text + values, Rows, nil
}

// table reads the name of a table, which may have the dump's own database before it.
func (j *Judge) table(text string) (table, rest, fault string) {
	found, rest := tokens(text, 1)
	if len(found) == 0 || found[0].bare() == "" {
		return "", rest, "names no table"
	}
	table = found[0].bare()
	if next, after := tokens(rest, 1); len(next) > 0 && next[0].text == "." {
		found, rest = tokens(after, 1)
		if len(found) == 0 || found[0].bare() == "" || j.database != "" && table != j.database {
			return "", rest, "is about another database, " + table
		}
		if j.database == "" {
			j.database = strings.Clone(table)
		}
		table = found[0].bare()
	}
	return table, rest, ""
}

// own is a table's name under the site's own prefix.
func (j *Judge) own(table string) string {
	if j.From != j.To && strings.HasPrefix(table, j.From) {
		return j.To + table[len(j.From):]
	}
	return table
}

// settings are the variables of a connection that a dump may set.
var settings = []string{"NAMES", "CHARACTER_SET_CLIENT", "CHARACTER_SET_RESULTS", "CHARACTER_SET_CONNECTION", "COLLATION_CONNECTION",
	"CHARACTER_SET_DATABASE", "COLLATION_DATABASE", "TIME_ZONE", "SQL_MODE",
	"FOREIGN_KEY_CHECKS", "UNIQUE_CHECKS", "CHECK_CONSTRAINT_CHECKS", "SQL_NOTES", "AUTOCOMMIT", "SQL_QUOTE_SHOW_CREATE",
	"DEFAULT_STORAGE_ENGINE", "STORAGE_ENGINE", "INSERT_ID", "TIMESTAMP", "SQL_AUTO_IS_NULL", "NOTE_VERBOSITY"}

// shifting are character sets in which a byte of a letter may look like a backslash: their strings cannot be told apart from outside.
var shifting = []string{"GBK", "BIG5", "SJIS", "CP932", "GB18030"}

// set keeps of a SET what is about the connection.
func (j *Judge) set(statement string) (string, Kind, error) {
	found, _ := tokens(statement, 0)
	found = found[1:]
	if len(found) > 0 && (found[0].is("NAMES", "CHARSET") || len(found) > 1 && found[0].is("CHARACTER") && found[1].is("SET")) {
		if last := found[len(found)-1]; slices.Contains(shifting, strings.ToUpper(strings.Trim(last.text, "'\""))) {
			return j.refuse("has its text in "+last.text, "export it as utf8mb4")
		}
		return "SET " + join(found), Setting, nil
	}
	kept := []string{}
	for _, one := range splitAtCommas(found) {
		variable, system := variableOf(one)
		if !system || slices.Contains(settings, variable) {
			kept = append(kept, join(one))
			continue
		}
		j.leave("SET " + variable)
	}
	if len(kept) == 0 {
		return "", Setting, nil
	}
	return "SET " + strings.Join(kept, ", "), Setting, nil
}

// variableOf is what an assignment is to, in capitals, and whether it is one of the server's.
func variableOf(assignment []token) (variable string, system bool) {
	at, signs := 0, 0
	for at < len(assignment) && assignment[at].text == "@" {
		at, signs = at+1, signs+1
	}
	if at < len(assignment) && assignment[at].is("SESSION", "LOCAL") {
		at++
		if at < len(assignment) && assignment[at].text == "." {
			at++
		}
		if at < len(assignment) && assignment[at].text == "@" { // SET SESSION @@x is none
			return "?", true
		}
	}
	if at >= len(assignment) {
		return "?", true
	}
	return strings.ToUpper(assignment[at].bare()), signs != 1
}

func splitAtCommas(tokens []token) (parts [][]token) {
	depth, begin := 0, 0
	for i, t := range tokens {
		switch t.text {
		case "(":
			depth++
		case ")":
			depth--
		case ",":
			if depth == 0 {
				parts, begin = append(parts, tokens[begin:i]), i+1
			}
		}
	}
	if begin < len(tokens) {
		parts = append(parts, tokens[begin:])
	}
	return parts
}

// objects are what a dump may make, change and drop.
var objects = []string{"TABLE", "VIEW", "TRIGGER", "PROCEDURE", "FUNCTION", "EVENT", "INDEX", "SEQUENCE"}

// define judges what makes, changes or empties something.
func (j *Judge) define(statement string) (string, Kind, error) {
	found, _ := tokens(statement, 0)
	found = j.unqualified(withoutDefiner(found))
	verb := found[0]
	if verb.is("TRUNCATE", "DELETE", "UPDATE") {
		return join(j.renamed(found)), Rows, nil
	}
	object, at := "", 0
	for i, t := range found[1:min(len(found), 16)] { // after OR REPLACE, TEMPORARY, ALGORITHM = …, UNIQUE and the like
		if t.is(objects...) {
			object, at = strings.ToUpper(t.text), i+1
			break
		}
		if t.kind != word && t.text != "=" {
			break
		}
	}
	switch {
	case object == "":
		what := strings.ToUpper(verb.text)
		if len(found) > 1 {
			what += " " + strings.ToUpper(found[1].text)
		}
		return j.leave(what)
	case object == "FUNCTION" && slices.ContainsFunc(found, func(t token) bool { return t.is("SONAME") }):
		return j.leave("CREATE FUNCTION … SONAME")
	}
	if verb.is("CREATE") && (object == "TABLE" || object == "VIEW") {
		table := nameAfter(found[at+1:])
		if object == "TABLE" && takesRows(found[at+1:]) {
			return j.refuse("makes the table "+table+" from a query", "export the table itself")
		}
		if j.made == nil {
			j.made = map[string]bool{}
		}
		j.made[strings.Clone(table)] = true
	}
	kind := Definition
	switch object {
	case "VIEW":
		kind = View
	case "TRIGGER", "PROCEDURE", "FUNCTION", "EVENT":
		kind = Program
	}
	return join(j.renamed(found)), kind, nil
}

// nameAfter is the name that follows, past IF NOT EXISTS.
func nameAfter(tokens []token) string {
	for _, t := range tokens {
		if !t.is("IF", "NOT", "EXISTS") {
			return t.bare()
		}
	}
	return ""
}

// takesRows tells whether the definition of a table has a query at its end.
func takesRows(tokens []token) bool {
	depth := 0
	for _, t := range tokens {
		switch {
		case t.text == "(":
			depth++
		case t.text == ")":
			depth--
		case depth == 0 && t.is("SELECT"):
			return true
		}
	}
	return false
}

// withoutDefiner leaves out in whose name something runs: whoever loads it becomes that.
func withoutDefiner(tokens []token) []token {
	for i := 1; i+2 < len(tokens) && i < 12; i++ {
		if !tokens[i].is("DEFINER") || tokens[i+1].text != "=" {
			continue
		}
		end := i + 3 // CURRENT_USER, or a name
		if end < len(tokens) && tokens[end].text == "@" {
			end += 2
		} else if end+1 < len(tokens) && tokens[end].text == "(" && tokens[end+1].text == ")" {
			end += 2
		}
		kept := append(slices.Clone(tokens[:i]), tokens[min(end, len(tokens)):]...)
		if i < len(kept) {
			kept[i].spaced = true // or it would be one with what stood before
		}
		return kept
	}
	return tokens
}

// unqualified leaves the dump's own database out of names.
func (j *Judge) unqualified(tokens []token) []token {
	if j.database == "" {
		return tokens
	}
	kept := make([]token, 0, len(tokens))
	for i := 0; i < len(tokens); i++ {
		if tokens[i].bare() == j.database && i+2 < len(tokens) && tokens[i+1].text == "." && tokens[i+2].bare() != "" && (i == 0 ||
			tokens[i-1].text != ".") {
			spaced := tokens[i].spaced
			i += 2
			kept = append(kept, token{tokens[i].kind, tokens[i].text, spaced})
			continue
		}
		kept = append(kept, tokens[i])
	}
	return kept
}

// renamed gives the tables that the dump made their names under the site's own prefix.
func (j *Judge) renamed(tokens []token) []token {
	if j.From == j.To {
		return tokens
	}
	for i, t := range tokens {
		if table := t.bare(); table != "" && (j.made[table] || i > 0 && tokens[i-1].is("REFERENCES")) && strings.HasPrefix(table, j.From) {
			tokens[i] = token{name, "`" + strings.ReplaceAll(j.own(table), "`", "``") + "`", t.spaced}
		}
	}
	return tokens
}

func quoteStart(statement string) string {
	start := strings.Join(strings.Fields(statement[:min(len(statement), 60)]), " ")
	return "“" + strings.ToValidUTF8(start, "") + "”"
}
