package origin

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/klauspost/compress/zstd"

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

// OpenDump opens a dump, plain or compressed with gzip or Zstandard.
func OpenDump(folder, file string) (io.ReadCloser, error) {
	source, err := openBeside(folder, file)
	if err != nil {
		return nil, err
	}
	buffered := bufio.NewReaderSize(source, 1<<20)
	head, _ := buffered.Peek(4)
	var from io.Reader = buffered
	switch {
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		if from, err = gzip.NewReader(buffered); err != nil {
			source.Close()
			return nil, err
		}
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		expanded, err := zstd.NewReader(buffered, zstd.WithDecoderMaxMemory(64<<20))
		if err != nil {
			source.Close()
			return nil, err
		}
		from = expanded
	}
	return struct {
		io.Reader
		io.Closer
	}{from, source}, nil
}

// LoadDump loads somebody's dump into a site's empty database, re-addressed to the site.
func (g *Origins) LoadDump(ctx context.Context, s site.Site, file, address string) (report rewrite.Tally, err error) {
	to, err := g.Machine.Database(ctx, s.Stack.Database)
	if err != nil {
		return report, err
	}
	k, facts := g.Machine.CMS.Of(s), g.Machine.CMSFacts(s)
	beside := s.Folder
	if s.Origin.Kind == site.FromRepository { // with which the dump came
		beside = s.Origin.From
	}
	dump, err := OpenDump(beside, file)
	if err != nil {
		return report, err
	}
	found, prefix, err := k.Dumped(dump)
	dump.Close()
	if err != nil {
		return report, fmt.Errorf("read %s: %w", file, err)
	}
	if address == "" {
		address = found
	}
	if prefix == "" {
		prefix = facts.Prefix
	}
	if dump, err = OpenDump(beside, file); err != nil {
		return report, err
	}
	defer dump.Close()
	pool := to.OpenAs(s.Database)
	defer pool.Close()
	report, err = k.DrawContent(ctx, pool, dump, cms.Place{URL: address}, prefix, facts, cms.Fitting(ctx, to, func(string, string) {}))
	if err != nil {
		return report, fmt.Errorf("load %s: %w", file, err)
	}
	return report, nil
}
