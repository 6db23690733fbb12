package archive

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"strings"
	"time"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zstd"

	"vessik/internal/ownfile"
)

// SumsName is the last entry of what a Packer writes: a line for each other one with its SHA-256, as sha256sum(1) reads it.
const SumsName = "SHA256SUMS"

// Form is what an archive is written as.
type Form string

// Forms of archives: a tar archive compressed with Zstandard, one that is not, and a zip archive.
const (
	TarZstd Form = "tar.zst"
	Tar     Form = "tar" // of the same files it is the same again
	Zip     Form = "zip"
)

// Packer writes an archive with the checksums of all that is in it.
type Packer struct {
	Progress func(bytes int64) // told of what has been read so far; nil for nobody

	ctx  context.Context
	tar  *tar.Writer
	zstd *zstd.Encoder // nil for a tar archive that is not compressed
	zip  *zip.Writer
	sums bytes.Buffer
	read int64
}

// NewPacker begins an archive.
func NewPacker(ctx context.Context, form Form, to io.Writer) (*Packer, error) {
	if form == Zip {
		p := &Packer{ctx: ctx, zip: zip.NewWriter(to)}
		p.zip.RegisterCompressor(zip.Deflate, func(to io.Writer) (io.WriteCloser, error) { return flate.NewWriter(to, flate.DefaultCompression) })
		return p, nil
	}
	if form == Tar {
		return &Packer{ctx: ctx, tar: tar.NewWriter(to)}, nil
	}
	compressed, err := zstd.NewWriter(to, zstd.WithEncoderLevel(zstd.SpeedDefault))
	if err != nil {
		return nil, err
	}
	return &Packer{ctx: ctx, tar: tar.NewWriter(compressed), zstd: compressed}, nil
}

// Head is what an archive says of a file.
type Head struct {
	Name     string
	Mode     fs.FileMode
	Size     int64 // in bytes; what is written must be as long in a tar archive
	Modified time.Time
}

// entry begins a file or, with a slash at the end of its name, a folder.
func (p *Packer) entry(head Head) (to io.Writer, err error) {
	if err := p.ctx.Err(); err != nil {
		return nil, err
	}
	switch {
	case !head.Modified.IsZero():
	case p.zip == nil && p.zstd == nil:
		head.Modified = time.Unix(0, 0)
	default:
		head.Modified = time.Now().Truncate(time.Second)
	}
	mode, folder := 0o644|head.Mode&0o111, strings.HasSuffix(head.Name, "/")
	if folder {
		mode = fs.ModeDir | 0o755
	}
	if p.zip != nil {
		entry := &zip.FileHeader{Name: head.Name, Method: zip.Deflate, Modified: head.Modified}
		if entry.SetMode(mode); folder {
			entry.Method = zip.Store
		}
		return p.zip.CreateHeader(entry)
	}
	entry := &tar.Header{Name: head.Name, Typeflag: tar.TypeReg, Mode: int64(mode.Perm()), Size: head.Size, ModTime: head.Modified}
	if folder {
		entry.Typeflag, entry.Size = tar.TypeDir, 0
	}
	return p.tar, p.tar.WriteHeader(entry)
}

// Folder adds a folder.
func (p *Packer) Folder(name string) error {
	_, err := p.entry(Head{Name: name + "/"})
	return err
}

// Text adds a file with a text.
func (p *Packer) Text(name string, text []byte) error {
	return p.File(Head{Name: name, Size: int64(len(text))}, func(to io.Writer) error { _, err := to.Write(text); return err })
}

// Summed adds a file with a text whose SHA-256 is known.
func (p *Packer) Summed(head Head, text []byte, sum [sha256.Size]byte) error {
	head.Size = int64(len(text))
	to, err := p.entry(head)
	if err == nil {
		_, err = to.Write(text)
	}
	if err == nil {
		p.note(head, sum[:])
	}
	return err
}

func (p *Packer) note(head Head, sum []byte) {
	fmt.Fprintf(&p.sums, "%s  %s\n", hex.EncodeToString(sum), head.Name)
	if p.read += head.Size; p.Progress != nil {
		p.Progress(p.read)
	}
}

// File adds a file with what write writes; what goes beyond its size is left out.
func (p *Packer) File(head Head, write func(to io.Writer) error) error {
	to, err := p.entry(head)
	if err != nil {
		return err
	}
	sum := newSumming()
	bounded := &bound{to: io.MultiWriter(to, sum), left: head.Size}
	err = write(bounded)
	whole := sum.end()
	if err != nil && !errors.Is(err, errFull) {
		return err
	}
	if bounded.left > 0 {
		return fmt.Errorf("%s became shorter while it was read", head.Name)
	}
	p.note(head, whole)
	return nil
}

// summing sums what is written beside whoever writes it: a SHA-256 takes longer than what is packed.
type summing struct {
	pieces chan []byte
	spare  chan []byte
	sum    chan []byte
}

func newSumming() *summing {
	const ahead = 4
	s := &summing{pieces: make(chan []byte, ahead), spare: make(chan []byte, ahead+2), sum: make(chan []byte, 1)}
	go func() {
		sum := sha256.New()
		for piece := range s.pieces {
			sum.Write(piece)
			s.spare <- piece
		}
		s.sum <- sum.Sum(nil)
	}()
	return s
}

func (s *summing) Write(text []byte) (int, error) {
	piece := []byte(nil)
	select {
	case piece = <-s.spare:
	default:
	}
	s.pieces <- append(piece[:0], text...)
	return len(text), nil
}

// end returns the sum of what was written; nothing is to be written any more.
func (s *summing) end() []byte {
	close(s.pieces)
	return <-s.sum
}

// errFull says that a file has become longer since its size was told.
var errFull = errors.New("longer than it was")

type bound struct {
	to   io.Writer
	left int64
}

func (b *bound) Write(text []byte) (int, error) {
	fits := text[:min(int64(len(text)), b.left)]
	n, err := b.to.Write(fits)
	if b.left -= int64(n); err == nil && len(fits) < len(text) {
		err = errFull
	}
	return n, err
}

// Close writes the checksums, and ends the archive.
func (p *Packer) Close() error {
	sums := bytes.Clone(p.sums.Bytes())
	if err := p.Text(SumsName, sums); err != nil {
		return err
	}
	if p.zip != nil {
		return p.zip.Close()
	}
	err := p.tar.Close()
	if p.zstd != nil {
		err = errors.Join(err, p.zstd.Close())
	}
	return err
}

// UnpackWhole unpacks what a Packer has written, and compares every checksum.
func UnpackWhole(ctx context.Context, file, dir string, limits Limits) error {
	limits.Sums = map[string]string{}
	if err := Unpack(ctx, file, dir, limits); err != nil {
		return err
	}
	listed, err := ownfile.Read(filepath.Join(dir, SumsName))
	if err != nil {
		return &Refused{Why: "is not whole: it has no " + SumsName}
	}
	delete(limits.Sums, SumsName)
	for line := range strings.Lines(string(listed)) {
		sum, name, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "  ")
		if limits.Sums[name] != sum {
			return &Refused{name, "does not have the checksum that it was packed with: it is damaged"}
		}
		delete(limits.Sums, name)
	}
	for name := range limits.Sums {
		return &Refused{name, "has no checksum: the archive is damaged"}
	}
	return nil
}
