// Package rowset tells what differs between the tables of two dumps, as Vessik and its helpers write them: a row is a line.
package rowset

import (
	"bufio"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"io"
	"regexp"
	"strings"
)

// Table is the rows of a table, each by its hash, with how often it is there.
type Table map[[16]byte]int

// Sum is the same for tables that hold the same rows, in whatever order.
func (t Table) Sum() string {
	var sum [16]byte
	for row, count := range t {
		for range count {
			carry := uint16(0)
			for i := range sum {
				carry += uint16(sum[i]) + uint16(row[i])
				sum[i], carry = byte(carry), carry>>8
			}
		}
	}
	return hex.EncodeToString(sum[:])
}

// Pack writes a table's hashes one after the other, in base64; Unpack reads them.
func (t Table) Pack() string {
	raw := make([]byte, 0, len(t)*16)
	for row, count := range t {
		for range count {
			raw = append(raw, row[:]...)
		}
	}
	return base64.StdEncoding.EncodeToString(raw)
}

// Unpack reads what Pack wrote; what is no such text is an empty table.
func Unpack(text string) Table {
	t := Table{}
	raw, err := base64.StdEncoding.DecodeString(text)
	if err != nil {
		return t
	}
	for ; len(raw) >= 16; raw = raw[16:] {
		t[[16]byte(raw)]++
	}
	return t
}

// Lost is how many rows a host changed since both sides were the same, and has no more once the rows from here take the place of its own:
// those that it made, and those that it removed and that would come back.
func Lost(here, there, was Table) (rows int) {
	for row := range there {
		if was[row] == 0 && here[row] == 0 {
			rows++
		}
	}
	for row := range was {
		if here[row] > 0 && there[row] == 0 {
			rows++
		}
	}
	return rows
}

// Difference is how many rows a table has alone, and how many the other one has.
func (t Table) Difference(other Table) (alone, others int) {
	for row, count := range t {
		alone += max(0, count-other[row])
	}
	for row, count := range other {
		others += max(0, count-t[row])
	}
	return alone, others
}

var (
	made  = regexp.MustCompile("^CREATE TABLE `((?:[^`]|``)+)`")
	filed = regexp.MustCompile("^INSERT INTO `((?:[^`]|``)+)`")
)

// longestRow bounds a line of a dump, in bytes.
const longestRow = 256 << 20

// Read reads the tables of a dump. passing tells of rows that do not count, by table and row; nil for none.
func Read(dump io.Reader, passing func(table, row string) bool) (map[string]Table, error) {
	all, into := map[string]Table{}, ""
	for lines := bufio.NewReaderSize(dump, 1<<20); ; {
		line, err := lines.ReadString('\n')
		if len(line) > longestRow {
			return nil, errors.New("a row is longer than can be meant")
		}
		switch {
		case into != "" && strings.HasPrefix(line, "("):
			row := strings.TrimRight(line, ",;\n")
			if passing == nil || !passing(into, row) {
				sum := sha256.Sum256([]byte(row))
				all[into][[16]byte(sum[:16])]++
			}
			if strings.HasSuffix(line, ";\n") {
				into = ""
			}
		case made.MatchString(line[:min(len(line), 200)]):
			if name := nameIn(made, line); all[name] == nil {
				all[name] = Table{}
			}
		case filed.MatchString(line[:min(len(line), 200)]):
			if into = nameIn(filed, line); all[into] == nil {
				all[into] = Table{}
			}
		}
		if errors.Is(err, io.EOF) {
			return all, nil
		}
		if err != nil {
			return nil, err
		}
	}
}

func nameIn(pattern *regexp.Regexp, line string) string {
	return strings.ReplaceAll(pattern.FindStringSubmatch(line[:min(len(line), 200)])[1], "``", "`")
}
