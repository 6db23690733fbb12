// Package archive unpacks and packs release archives and stencils: .zip, and .tar, plain or compressed. What it unpacks is not trusted:
// nothing is written outside the folder, nothing but files and folders is made, and neither size nor number goes beyond its bounds.
package archive

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"bytes"
	"compress/bzip2"
	"compress/gzip"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"

	"vessik/internal/ownfile"
)

// Limits bound what is unpacked.
type Limits struct {
	Bytes   int64 // of all files together
	Entries int
	Ratio   int64 // how many bytes may come of one byte of the archive, beyond the first megabyte; 0 is no bound
	// PassLinks passes links by, where else they are refused: backups of whole accounts have some.
	PassLinks bool
	// Sums, where it is not nil, is given the SHA-256 of every file.
	Sums map[string]string
}

// Usual is enough for any CMS release, and for a site with its uploads.
var Usual = Limits{Bytes: 20 << 30, Entries: 400_000, Ratio: 200}

// Refused says why an archive is not unpacked.
type Refused struct{ Entry, Why string }

func (r *Refused) Error() string {
	if r.Entry == "" {
		return "the archive " + r.Why
	}
	return fmt.Sprintf("the archive's entry %q %s", r.Entry, r.Why)
}

// Unpack unpacks an archive into a folder that must be empty or not yet there. On failure the folder
// holds nothing of it.
func Unpack(ctx context.Context, file, dir string, limits Limits) (err error) {
	source, err := ownfile.Open(file)
	if err != nil {
		return err
	}
	defer source.Close()
	info, err := source.Stat()
	if err != nil {
		return err
	}
	if err := ownfile.Make(dir, 0o755); err != nil {
		return err
	}
	if left, err := ownfile.List(dir); err != nil || len(left) > 0 {
		return errors.Join(err, fmt.Errorf("the folder %s is not empty", dir))
	}
	defer func() {
		if err != nil {
			left, _ := ownfile.List(dir)
			for _, entry := range left {
				ownfile.RemoveAll(filepath.Join(dir, entry.Name()))
			}
		}
	}()
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	u := &unpacking{ctx: ctx, root: root, limits: limits, packed: info.Size(), seen: map[string]bool{}}
	expanded, end, err := expand(source)
	if err != nil {
		return err
	}
	defer end()
	if expanded == nil {
		return u.zip(source, info.Size())
	}
	return u.tar(expanded)
}

// expand returns the tar stream that a file holds, however it is compressed; nil for a zip archive. end is to be called afterwards.
func expand(source *os.File) (expanded io.Reader, end func(), err error) {
	head := make([]byte, 512)
	n, _ := io.ReadFull(source, head)
	head = head[:n]
	if _, err := source.Seek(0, io.SeekStart); err != nil {
		return nil, nil, err
	}
	switch {
	case bytes.HasPrefix(head, []byte("PK\x03\x04")) || bytes.HasPrefix(head, []byte("PK\x05\x06")):
		return nil, func() {}, nil
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		unzipped, err := gzip.NewReader(bufio.NewReader(source))
		if err != nil {
			return nil, nil, &Refused{Why: "is not whole: " + err.Error()}
		}
		return unzipped, func() {}, nil
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		expanded, err := zstd.NewReader(source, zstd.WithDecoderMaxMemory(512<<20))
		if err != nil {
			return nil, nil, &Refused{Why: "is not whole: " + err.Error()}
		}
		return expanded, expanded.Close, nil
	case bytes.HasPrefix(head, []byte("\xfd7zXZ\x00")):
		expanded, err := xz.ReaderConfig{DictCap: 64 << 20}.NewReader(bufio.NewReader(source))
		if err != nil {
			return nil, nil, &Refused{Why: "is not whole: " + err.Error()}
		}
		return expanded, func() {}, nil
	case bytes.HasPrefix(head, []byte("BZh")):
		return bzip2.NewReader(bufio.NewReader(source)), func() {}, nil
	case len(head) > 262 && string(head[257:262]) == "ustar":
		return source, func() {}, nil
	}
	return nil, nil, &Refused{Why: "is none that can be read: it may be .zip, .tar, .tar.gz, .tar.zst, .tar.xz or .tar.bz2"}
}

type unpacking struct {
	ctx     context.Context
	root    *os.Root
	limits  Limits
	packed  int64
	written int64
	entries int
	seen    map[string]bool // paths, folded, of files
}

// place judges an entry's name.
func (u *unpacking) place(name string) (string, error) {
	switch clean := path.Clean(strings.TrimSuffix(name, "/")); {
	case !utf8.ValidString(name):
		return "", &Refused{strings.ToValidUTF8(name, "?"), "has a name in another encoding than UTF-8"}
	case strings.ContainsFunc(name, unicode.IsControl) || strings.Contains(name, `\`):
		return "", &Refused{name, "has control characters or backslashes in its name"}
	case strings.HasPrefix(name, "/") || !filepath.IsLocal(filepath.FromSlash(clean)) || slices.Contains(strings.Split(name, "/"), ".."):
		return "", &Refused{name, "leads out of its folder"}
	case len(name) > 1000:
		return "", &Refused{name[:40] + "…", "has a name of more than 1000 bytes"}
	default:
		return clean, nil
	}
}

func (u *unpacking) count(name string) error {
	if u.entries++; u.entries > u.limits.Entries {
		return &Refused{name, fmt.Sprintf("is one too many: %d is the most", u.limits.Entries)}
	}
	return u.ctx.Err()
}

func (u *unpacking) folder(name string) error {
	if name == "." {
		return nil
	}
	return u.root.MkdirAll(name, 0o755)
}

func (u *unpacking) file(name string, mode fs.FileMode, from io.Reader) error {
	if u.seen[name] {
		return &Refused{name, "is in it twice"}
	}
	u.seen[name] = true
	if err := u.folder(path.Dir(name)); err != nil {
		return fmt.Errorf("the archive's entry %q: %w", name, err)
	}
	target, err := u.root.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644|mode&0o111)
	if err != nil {
		return fmt.Errorf("the archive's entry %q: %w", name, err)
	}
	left := u.limits.Bytes - u.written
	if u.limits.Ratio > 0 {
		left = min(left, u.packed*u.limits.Ratio+1<<20-u.written)
	}
	var to io.Writer = target
	if u.limits.Sums != nil {
		sum := newSumming()
		defer func() { u.limits.Sums[name] = hex.EncodeToString(sum.end()) }()
		to = io.MultiWriter(target, sum)
	}
	n, err := io.Copy(to, io.LimitReader(from, left+1))
	if closed := target.Close(); err == nil {
		err = closed
	}
	if u.written += n; err == nil && n > left {
		return &Refused{name, "expands to more than can be meant"}
	}
	if err != nil {
		var unwritten *fs.PathError
		if errors.As(err, &unwritten) {
			return err
		}
		return &Refused{name, "is not whole: " + err.Error()}
	}
	return nil
}

func (u *unpacking) tar(from io.Reader) error {
	for reader := tar.NewReader(from); ; {
		head, err := reader.Next()
		if errors.Is(err, io.EOF) {
			if u.entries == 0 {
				return &Refused{Why: "is empty"}
			}
			return nil
		}
		if err != nil {
			return &Refused{Why: "is not whole: " + err.Error()}
		}
		if head.Typeflag == tar.TypeXGlobalHeader {
			continue
		}
		if err := u.count(head.Name); err != nil {
			return err
		}
		name, err := u.place(head.Name)
		if err != nil {
			return err
		}
		switch head.Typeflag {
		case tar.TypeDir:
			err = u.folder(name)
		case tar.TypeReg:
			err = u.file(name, head.FileInfo().Mode(), reader)
		case tar.TypeSymlink, tar.TypeLink:
			if !u.limits.PassLinks {
				err = &Refused{head.Name, "is a link"}
			}
		default:
			err = &Refused{head.Name, "is neither a file nor a folder"}
		}
		if err != nil {
			return err
		}
	}
}

func (u *unpacking) zip(from io.ReaderAt, size int64) error {
	reader, err := zip.NewReader(from, size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) { // names are judged below
		return &Refused{Why: "is not whole: " + err.Error()}
	}
	if len(reader.File) == 0 {
		return &Refused{Why: "is empty"}
	}
	for _, each := range reader.File {
		if err := u.count(each.Name); err != nil {
			return err
		}
		name, err := u.place(each.Name)
		if err != nil {
			return err
		}
		mode := each.Mode()
		switch {
		case mode.IsDir():
			err = u.folder(name)
		case mode&fs.ModeSymlink != 0:
			if !u.limits.PassLinks {
				err = &Refused{each.Name, "is a link"}
			}
		case !mode.IsRegular():
			err = &Refused{each.Name, "is neither a file nor a folder"}
		default:
			var content io.ReadCloser
			if content, err = each.Open(); err != nil {
				return &Refused{each.Name, "is not whole: " + err.Error()}
			}
			err = u.file(name, mode, content)
			content.Close()
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Top returns the folder in which an unpacked archive's content begins: a single folder at its top is taken off.
func Top(dir string) string {
	entries, err := ownfile.List(dir)
	if err == nil && len(entries) == 1 && entries[0].IsDir() {
		return filepath.Join(dir, entries[0].Name())
	}
	return dir
}

// DocumentRoot finds what a web server is to serve of a CMS's folder: the first of the usual folders that has an index.php. It is
// empty for the folder itself; ok is false where there is none.
func DocumentRoot(dir string) (root string, ok bool) {
	for _, root := range []string{"public", "web", "htdocs", ""} {
		if info, err := os.Stat(filepath.Join(dir, root, "index.php")); err == nil && info.Mode().IsRegular() {
			return root, true
		}
	}
	return "", false
}
