package origin

import (
	"bufio"
	"bytes"
	"cmp"
	"compress/bzip2"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"

	"vessik/internal/cms"
	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
	"vessik/internal/ownfile"
	"vessik/internal/safefile"
)

// openBeside opens a file that somebody named. What lies in a site's folder came with it, and may be a link to anything.
func openBeside(folder, file string) (*os.File, error) {
	if relative, err := filepath.Rel(folder, file); folder != "" && err == nil && filepath.IsLocal(relative) {
		return safefile.Open(folder, relative)
	}
	return ownfile.Open(file)
}

// OpenDump opens a dump, plain or compressed with gzip, Zstandard, xz or bzip2.
func OpenDump(folder, file string) (io.ReadCloser, error) {
	source, err := openBeside(folder, file)
	if err != nil {
		return nil, err
	}
	expanded, end, err := expandDump(bufio.NewReaderSize(source, 1<<20))
	if err != nil {
		source.Close()
		return nil, err
	}
	return reading{expanded, func() error { end(); return source.Close() }}, nil
}

type reading struct {
	io.Reader
	close func() error
}

func (r reading) Close() error { return r.close() }

// expandDump reads a dump however it is compressed; end is to be called afterwards.
func expandDump(from *bufio.Reader) (expanded io.Reader, end func(), err error) {
	end = func() {}
	switch head, _ := from.Peek(6); {
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		expanded, err = gzip.NewReader(from)
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		var decoder *zstd.Decoder
		if decoder, err = zstd.NewReader(from, zstd.WithDecoderMaxMemory(64<<20)); err == nil {
			expanded, end = decoder, decoder.Close
		}
	case bytes.HasPrefix(head, []byte("\xfd7zXZ\x00")):
		expanded, err = xz.ReaderConfig{DictCap: 64 << 20}.NewReader(from)
	case bytes.HasPrefix(head, []byte("BZh")):
		expanded = bzip2.NewReader(from)
	default:
		expanded = from
	}
	return expanded, end, err
}

// openDumps reads several files of a dump as one.
func openDumps(folder string, files []string) (io.ReadCloser, error) {
	all, opened := []io.Reader{}, []io.Closer{}
	whole := func() (err error) {
		for _, each := range opened {
			err = errors.Join(err, each.Close())
		}
		return err
	}
	for _, file := range files {
		one, err := OpenDump(folder, file)
		if err != nil {
			return nil, errors.Join(err, whole())
		}
		all, opened = append(all, one, strings.NewReader("\n")), append(opened, one)
	}
	return reading{io.MultiReader(all...), whole}, nil
}

// LoadDump loads somebody's dump, in one file or several, into a site's empty database, re-addressed to the site; address is the one in it,
// and found where it is empty.
func (g *Origins) LoadDump(ctx context.Context, s site.Site, address string, files ...string) (report rewrite.Tally, err error) {
	to, err := g.Machine.Database(ctx, s.Stack.Database)
	if err != nil {
		return report, err
	}
	k, facts := g.Machine.CMS.Of(s), g.Machine.CMSFacts(s)
	beside := s.Folder
	if s.Origin.Kind == site.FromRepository { // with which the dump came
		beside = s.Origin.From
	}
	dump, err := openDumps(beside, files)
	if err != nil {
		return report, err
	}
	said, err := k.Dumped(dump)
	dump.Close()
	if err != nil {
		return report, fmt.Errorf("read %s: %w", files[0], err)
	}
	address, prefix := cmp.Or(address, said.Address), cmp.Or(said.Prefix, facts.Prefix)
	if dump, err = openDumps(beside, files); err != nil {
		return report, err
	}
	defer dump.Close()
	pool := to.OpenAs(s.Database)
	defer pool.Close()
	report, err = k.DrawContent(ctx, pool, dump, cms.Place{URL: address}, prefix, facts, cms.Fitting(ctx, to, func(string, string) {}))
	if err != nil {
		return report, fmt.Errorf("load %s: %w", files[0], err)
	}
	return report, nil
}
