// Package blobs keeps content in pieces, each once, by their SHA-256 and compressed: what is there already costs nothing.
package blobs

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"github.com/klauspost/compress/zstd"
	"golang.org/x/sys/unix"

	"vessik/internal/ownfile"
)

// Store is a folder of blobs. Content may be put into it by several at a time, while nobody sweeps.
type Store struct{ Dir string }

// Ref names a blob.
type Ref struct {
	Sum    string `json:"sum"`    // SHA-256, in hexadecimal digits
	Size   int    `json:"size"`   // in bytes
	Stored int64  `json:"stored"` // that it takes on disk
}

// Damaged is a blob that is not there, or not what it was.
type Damaged struct{ Sum string }

func (d *Damaged) Error() string { return "the blob " + d.Sum + " is damaged" }

// unfinished begins the name of a blob that is being written.
const unfinished = ".next-"

var (
	encoder = sync.OnceValue(func() *zstd.Encoder {
		e, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderCRC(false), zstd.WithWindowSize(longest),
			zstd.WithEncoderConcurrency(2), zstd.WithLowerEncoderMem(true))
		if err != nil {
			panic(err) // of our own options
		}
		return e
	})
	decoder = sync.OnceValue(func() *zstd.Decoder {
		d, err := zstd.NewReader(nil, zstd.WithDecoderMaxMemory(2*longest), zstd.WithDecoderConcurrency(2), zstd.WithDecoderLowmem(true))
		if err != nil {
			panic(err)
		}
		return d
	})
)

func (s Store) path(sum string) string { return filepath.Join(s.Dir, sum[:2], sum) }

// Put keeps content, and returns what it is read by again.
func (s Store) Put(ctx context.Context, content io.Reader) (refs []Ref, err error) {
	refs = []Ref{}
	err = Pieces(content, func(sum string, piece []byte) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		ref, err := s.put(sum, piece)
		refs = append(refs, ref)
		return err
	})
	return refs, err
}

// Pieces tells the pieces that content is kept in, with their sums; a piece is good until each returns.
func Pieces(content io.Reader, each func(sum string, piece []byte) error) error {
	return split(content, func(piece []byte) error { return each(sumOf(piece), piece) })
}

// Sums are the sums of the pieces that content is kept in.
func Sums(content io.Reader) (sums []string, err error) {
	err = Pieces(content, func(sum string, _ []byte) error {
		sums = append(sums, sum)
		return nil
	})
	return sums, err
}

// Pack compresses a piece, as it is kept and sent.
func Pack(piece []byte) []byte { return encoder().EncodeAll(piece, nil) }

// LongestPacked is how long a piece may be that was packed, in bytes.
const LongestPacked = longest + 64<<10

// Take keeps a piece that somebody else packed: what it is called is summed here.
func (s Store) Take(packed []byte) (Ref, error) {
	piece, err := decoder().DecodeAll(packed, nil)
	if err != nil || len(piece) == 0 || len(piece) > longest {
		return Ref{}, errors.New("a piece that cannot be read")
	}
	return s.put(sumOf(piece), piece)
}

// Find is a blob that is there; false where it is not, or where the sum is none.
func (s Store) Find(sum string) (size int64, there bool) {
	if raw, err := hex.DecodeString(sum); err != nil || len(raw) != sha256.Size {
		return 0, false
	}
	size = ownfile.Size(s.path(sum))
	return size, size > 0
}

func sumOf(piece []byte) string {
	sum := sha256.Sum256(piece)
	return hex.EncodeToString(sum[:])
}

// Are tells whether content of these sums is what is read by refs.
func Are(refs []Ref, sums []string) bool {
	return slices.EqualFunc(refs, sums, func(ref Ref, sum string) bool { return ref.Sum == sum })
}

func (s Store) put(sum string, piece []byte) (Ref, error) {
	ref := Ref{Sum: sum, Size: len(piece)}
	path := s.path(ref.Sum)
	if ref.Stored = ownfile.Size(path); ref.Stored > 0 {
		return ref, nil
	}
	packed := Pack(piece)
	ref.Stored = int64(len(packed))
	if err := ownfile.Make(filepath.Dir(path), 0o700); err != nil {
		return ref, err
	}
	file, err := os.CreateTemp(filepath.Dir(path), unfinished+"*")
	if err != nil {
		return ref, err
	}
	_, err = file.Write(packed)
	if err = errors.Join(err, file.Close()); err == nil {
		err = ownfile.Rename(file.Name(), path)
	}
	if err != nil {
		ownfile.Remove(file.Name())
	}
	return ref, err
}

// Sync returns when what was put will still be there after a power failure.
func (s Store) Sync() error {
	dir, err := ownfile.Open(s.Dir)
	if errors.Is(err, fs.ErrNotExist) { // nothing was
		return nil
	}
	if err != nil {
		return err
	}
	defer dir.Close()
	return unix.Syncfs(int(dir.Fd()))
}

// Read writes content to a writer; an error is a *Damaged where a blob is not what it was.
func (s Store) Read(refs []Ref, to io.Writer) error {
	for _, ref := range refs {
		piece, err := s.piece(ref)
		if err != nil {
			return err
		}
		if _, err := to.Write(piece); err != nil {
			return err
		}
	}
	return nil
}

func (s Store) piece(ref Ref) ([]byte, error) {
	if len(ref.Sum) != 2*sha256.Size {
		return nil, &Damaged{ref.Sum}
	}
	packed, err := ownfile.Read(s.path(ref.Sum))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("read the blob %s: %w", ref.Sum, err)
	}
	piece, err := decoder().DecodeAll(packed, nil)
	if err != nil || sumOf(piece) != ref.Sum {
		return nil, &Damaged{ref.Sum}
	}
	return piece, nil
}

// Check says whether a blob is what it was: nil, or a *Damaged. A damaged one is taken away, so that the next who puts it makes it whole.
func (s Store) Check(ref Ref) error {
	_, err := s.piece(ref)
	var damaged *Damaged
	if errors.As(err, &damaged) && len(ref.Sum) == 2*sha256.Size {
		ownfile.Remove(s.path(ref.Sum))
	}
	return err
}

// Sweep removes all blobs but those that are named, and the folder where none is left.
func (s Store) Sweep(named map[string]bool) error {
	folders, err := ownfile.List(s.Dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, folder := range folders {
		within := filepath.Join(s.Dir, folder.Name())
		all, err := ownfile.List(within)
		if err != nil {
			return err
		}
		for _, each := range all {
			if !named[each.Name()] {
				if err := ownfile.Remove(filepath.Join(within, each.Name())); err != nil {
					return err
				}
			}
		}
		ownfile.Remove(within) // only if empty
	}
	ownfile.Remove(s.Dir)
	return nil
}

// shortest and longest are the bounds of a piece's length, and mask makes pieces of a quarter of a megabyte on average, in bytes.
const (
	shortest = 64 << 10
	longest  = 1 << 20
	mask     = 1<<18 - 1
)

// gear is a number for each byte, by which the rolling hash of the last 64 bytes is made.
var gear = sync.OnceValue(func() (table [256]uint64) {
	for i := range table {
		sum := sha256.Sum256([]byte{byte(i)})
		for _, b := range sum[:8] {
			table[i] = table[i]<<8 | uint64(b)
		}
	}
	return table
})

// split cuts content where the content itself says so, so that a change in the middle leaves the pieces before and behind it what they
// were.
func split(content io.Reader, each func(piece []byte) error) error {
	table, buffer := gear(), bytes.Buffer{}
	for ended := false; !ended || buffer.Len() > 0; {
		if !ended && buffer.Len() < longest {
			read, err := io.CopyN(&buffer, content, int64(longest-buffer.Len()))
			if ended = errors.Is(err, io.EOF); err != nil && !ended {
				return err
			}
			if read == 0 && buffer.Len() == 0 {
				return nil
			}
		}
		if err := each(buffer.Next(cut(&table, buffer.Bytes()))); err != nil {
			return err
		}
	}
	return nil
}

// cut is how long the first piece of a text is.
func cut(table *[256]uint64, text []byte) int {
	if len(text) <= shortest {
		return len(text)
	}
	hash := uint64(0)
	for i, b := range text[shortest:min(len(text), longest)] {
		if hash = hash<<1 + table[b]; hash>>46&mask == 0 {
			return shortest + i + 1
		}
	}
	return min(len(text), longest)
}
