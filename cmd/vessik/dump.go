package main

import (
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/klauspost/compress/zstd"
)

var dumpCommand = command{name: "dump", names: "NAME", about: "write a site's database as SQL",
	synopsis: "Writes the tables of a site's database as SQL, as they are at one moment, to standard output or into a new file; a file's " +
		"name that ends in .gz or .zst\nhas it compressed. vessik load puts such a file in the place of a site's database.\n" +
		"With -table only some tables are written; with -csv one as CSV (RFC 4180), in which \\N stands for NULL.",
	example: "vessik dump orchard-days -o orchard.sql.zst\nvessik dump orchard-days | grep siteurl\n" +
		"vessik dump orchard-days -table wp_posts -csv -o posts.csv", run: runDump}

func runDump(ctx context.Context, c *call) error {
	var tables list
	c.flags.Var(&tables, "table", "only this table; may be given more than once")
	asCSV := c.flags.Bool("csv", false, "write one table as CSV (RFC 4180)")
	file := c.flags.String("o", "", "file to be written, which must not be there")
	service, err := c.connect(func() error {
		if *asCSV && len(tables) != 1 {
			return usageError{"a CSV file has one table: name it with -table"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	write := func(to io.Writer) error { return service.Dump(ctx, c.names[0], to, tables...) }
	if *asCSV {
		write = func(to io.Writer) error { return service.TableCSV(ctx, c.names[0], tables[0], to) }
	}
	if *file == "" {
		return write(c.out)
	}
	to, err := newFile(*file)
	if err != nil {
		return err
	}
	packed, err := packer(*file, to)
	if err == nil {
		err = write(packed)
		err = errors.Join(err, packed.Close())
	}
	if err = errors.Join(err, to.Close()); err != nil {
		os.Remove(*file) // it is whole, or not there
		return err
	}
	info, err := os.Stat(*file)
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(map[string]any{"file": *file, "size_bytes": info.Size()})
	}
	fmt.Fprintf(c.out, "written: %s (%s)\n", *file, sizeOf(info.Size()))
	return nil
}

type plainWriter struct{ io.Writer }

func (plainWriter) Close() error { return nil }

// packer compresses what is written as a file's name says.
func packer(name string, to io.Writer) (io.WriteCloser, error) {
	switch {
	case strings.HasSuffix(name, ".gz"):
		return gzip.NewWriter(to), nil
	case strings.HasSuffix(name, ".zst"):
		return zstd.NewWriter(to)
	}
	return plainWriter{to}, nil
}
