// Package stencil keeps saved sites that new ones are drawn from: each is one file, a tar archive compressed with Zstandard that holds
// stencil.json, database.sql, files/… , perhaps picture.jpg, and SHA256SUMS of all of them.
package stencil

import (
	"archive/tar"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"unicode"

	"github.com/klauspost/compress/zstd"

	"vessik/internal/archive"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/ownfile"
	"vessik/internal/safefile"
)

// Format is what stencil.json says it is.
const Format = "vessik-stencil/2"

// formerFormat is that of stencils which were saved before a CMS was called so.
const formerFormat = "vessik-stencil/1"

// Suffix ends the names of stencils' files.
const Suffix = ".stencil.tar.zst"

const (
	manifestName = "stencil.json"
	databaseName = "database.sql"
	pictureName  = "picture.jpg"
	filesName    = "files"
)

// Manifest describes a stencil: it is its stencil.json.
type Manifest = wire.Stencil

// Shelf is a folder of stencils.
type Shelf struct{ Dir string }

var nameRule = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)

// CheckName judges a stencil's name.
func CheckName(name string) error {
	if !nameRule.MatchString(name) {
		return fmt.Errorf("%q is not a stencil's name: use a to z, 0 to 9 and hyphens inside, 63 characters at most", name)
	}
	return nil
}

// File is where a stencil is kept.
func (s Shelf) File(name string) string { return filepath.Join(s.Dir, name+Suffix) }

// Find reads what a stencil says of itself. The error is fs.ErrNotExist where there is none.
func (s Shelf) Find(name string) (Manifest, error) {
	if CheckName(name) != nil {
		return Manifest{}, fs.ErrNotExist
	}
	m, err := Read(s.File(name))
	m.Name = name // the file's name counts
	if err == nil {
		if text, err := ownfile.Read(s.descriptionFile(name)); err == nil {
			m.Description = string(text)
		}
	}
	return m, err
}

// descriptionFile holds a description that was given after the stencil was made.
func (s Shelf) descriptionFile(name string) string { return filepath.Join(s.Dir, name+".description") }

// List returns all, by name; those that cannot be read are left out.
func (s Shelf) List() []Manifest {
	found := ownfile.Find(filepath.Join(s.Dir, "*"+Suffix))
	all := []Manifest{}
	for _, file := range found {
		if m, err := s.Find(strings.TrimSuffix(filepath.Base(file), Suffix)); err == nil {
			all = append(all, m)
		}
	}
	return all
}

// Read reads the manifest of a stencil's file, which stands first in it.
func Read(file string) (m Manifest, err error) {
	from, err := ownfile.Open(file)
	if err != nil {
		return m, err
	}
	defer from.Close()
	expanded, err := zstd.NewReader(from, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(64<<20))
	if err != nil {
		return m, fmt.Errorf("%s is not a stencil: %w", file, err)
	}
	defer expanded.Close()
	reader := tar.NewReader(expanded)
	head, err := reader.Next()
	if err != nil || head.Name != manifestName {
		return m, fmt.Errorf("%s is not a stencil: it does not begin with %s", file, manifestName)
	}
	text, err := io.ReadAll(io.LimitReader(reader, 1<<20))
	if err != nil {
		return m, fmt.Errorf("%s is not whole: %w", file, err)
	}
	err = json.Unmarshal(text, &m)
	if m.Format == formerFormat {
		former := struct{ Kit *site.CMS }{&m.CMS}
		err = json.Unmarshal(text, &former)
		m.Format = Format
	}
	if err != nil || m.Format != Format {
		return m, fmt.Errorf("%s is not a stencil that this Vessik can read (%s)", file, m.Format)
	}
	if err := Judge(m); err != nil {
		return m, fmt.Errorf("%s is not to be trusted: its %s %w", file, manifestName, err)
	}
	if info, err := from.Stat(); err == nil {
		m.SizeBytes = info.Size()
	}
	return m, nil
}

var versionRule = regexp.MustCompile(`^[0-9A-Za-z][0-9A-Za-z.+~_-]{0,39}$`)

var prefixRule = regexp.MustCompile(`^[A-Za-z0-9_]{0,40}$`)

// Judge looks at what becomes a path, configuration or SQL: a stencil may come from anybody.
func Judge(m Manifest) error {
	if fault := site.RootFault(m.Root); fault != "" {
		return fmt.Errorf("has the document root %q, which %s", m.Root, fault)
	}
	if !prefixRule.MatchString(m.Prefix) {
		return fmt.Errorf("has the prefix %q, which is none of a table", m.Prefix)
	}
	if address, err := url.Parse(m.URL); m.URL != "" &&
		(err != nil || address.Host == "" || address.Scheme != "http" && address.Scheme != "https") {
		return fmt.Errorf("has %q, which is no address of a site", m.URL)
	}
	for _, name := range append([]string{m.CMS.Name, m.From}, m.SubSites...) {
		if name != "" && CheckName(name) != nil {
			return fmt.Errorf("has %q, which is no name", name)
		}
	}
	if m.Network != "" && m.Network != site.NetworkDomains && m.Network != site.NetworkFolders {
		return fmt.Errorf("has %q, which is no kind of network", m.Network)
	}
	if brought := (site.Settings{PHP: m.Settings.PHP, Extensions: m.Settings.Extensions}); !reflect.DeepEqual(brought, m.Settings) {
		return errors.New("has settings that are not of php.ini")
	}
	if faults := site.CheckSettings(m.Name, m.Settings, nil, nil, ""); len(faults) > 0 {
		return fmt.Errorf("has settings that cannot be: %w", faults)
	}
	for _, place := range m.Shared {
		if !filepath.IsLocal(place) || site.UnsafeInPath(place) {
			return fmt.Errorf("has %q, which is no place in a site", place)
		}
	}
	for _, text := range []string{m.Folder, m.Title, m.Description, m.CMS.Version, m.Stack.PHP, m.Stack.Web, m.Stack.Database} {
		if strings.ContainsFunc(text, unicode.IsControl) || len(text) > 1000 {
			return fmt.Errorf("has %q, which is no text of one line", text)
		}
	}
	if m.CMS.Version != "" && !versionRule.MatchString(m.CMS.Version) { // it becomes a part of folders' names
		return fmt.Errorf("has %q, which is no version", m.CMS.Version)
	}
	return nil
}

// Source is what a stencil is made of.
type Source struct {
	Folder   string
	LeaveOut []string          // paths in the folder
	Replace  map[string][]byte // files by their paths, whose text is another one in the stencil
	Database string            // file of the dump
	Picture  string            // file; empty for none
}

// Save writes a stencil; it is there whole or not at all. progress is told of bytes written.
func (s Shelf) Save(ctx context.Context, m Manifest, from Source, progress func(done int64)) (Manifest, error) {
	if err := ownfile.Make(s.Dir, 0o700); err != nil {
		return m, err
	}
	if _, err := os.Stat(s.File(m.Name)); err == nil {
		return m, fmt.Errorf("there is a stencil %q already; drop it first, or choose another name", m.Name)
	}
	paths, err := listed(ctx, from, &m)
	if err != nil {
		return m, err
	}
	if info, err := os.Stat(from.Database); err == nil {
		m.DatabaseBytes = info.Size()
	}
	m.HasPicture = from.Picture != ""
	partial, err := os.CreateTemp(s.Dir, ".partial-*")
	if err != nil {
		return m, err
	}
	defer ownfile.Remove(partial.Name())
	defer partial.Close()
	pack, err := archive.NewPacker(ctx, archive.TarZstd, partial)
	if err != nil {
		return m, err
	}
	pack.Progress = progress
	text, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return m, err
	}
	if err := pack.Text(manifestName, text); err != nil {
		return m, err
	}
	if from.Picture != "" {
		if err := addOwn(pack, pictureName, from.Picture); err != nil {
			return m, err
		}
	}
	if err := addOwn(pack, databaseName, from.Database); err != nil {
		return m, err
	}
	if err := files(pack, from, paths); err != nil {
		return m, err
	}
	if err := errors.Join(pack.Close(), partial.Sync(), partial.Close()); err != nil {
		return m, err
	}
	if err := ownfile.Link(partial.Name(), s.File(m.Name)); err != nil { // not over one that was made meanwhile
		return m, err
	}
	return s.Find(m.Name)
}

// listed are the files of a site, folders with a slash at their end; the manifest counts them.
func listed(ctx context.Context, from Source, m *Manifest) (paths []string, err error) {
	err = safefile.Walk(ctx, from.Folder, from.LeaveOut, func(e safefile.Entry) error {
		switch {
		case e.Type.IsDir():
			paths = append(paths, e.Path+"/")
		case e.Type.IsRegular():
			paths = append(paths, e.Path)
			m.Files++
			m.FileBytes += e.Size
		default:
			m.LinksLeftOut++
		}
		return nil
	})
	return paths, err
}

// files writes a site's files; those that went away meanwhile are left out.
func files(pack *archive.Packer, from Source, paths []string) (err error) {
	for _, path := range paths {
		name := filesName + "/" + path
		switch replaced, other := from.Replace[path]; {
		case other:
			err = pack.Text(name, replaced)
		case strings.HasSuffix(path, "/"):
			err = pack.Folder(strings.TrimSuffix(name, "/"))
		default:
			var file *os.File // in a folder that a site can write
			if file, err = safefile.Open(from.Folder, path); err == nil {
				err = add(pack, name, file)
			}
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, safefile.ErrNotRegular) {
			return err
		}
	}
	return nil
}

func addOwn(pack *archive.Packer, name, path string) error {
	file, err := ownfile.Open(path)
	if err != nil {
		return err
	}
	return add(pack, name, file)
}

func add(pack *archive.Packer, name string, file *os.File) error {
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return err
	}
	return pack.File(archive.Head{Name: name, Mode: info.Mode(), Size: info.Size(), Modified: info.ModTime()}, func(to io.Writer) error {
		_, err := io.Copy(to, file)
		return err
	})
}

// Open unpacks a stencil into a folder: its files as the folder files, its database as database.sql. Every checksum is compared.
func (s Shelf) Open(ctx context.Context, name, dir string) (files, database string, err error) {
	if _, err := s.Find(name); err != nil {
		return "", "", err
	}
	err = openInto(ctx, s.File(name), dir, &files, &database)
	return files, database, err
}

func openInto(ctx context.Context, file, dir string, files, database *string) error {
	if err := archive.UnpackWhole(ctx, file, dir, archive.Usual); err != nil {
		return err
	}
	*files, *database = filepath.Join(dir, filesName), filepath.Join(dir, databaseName)
	return ownfile.Make(*files, 0o755)
}

// Picture is the picture that was taken of the site; fs.ErrNotExist where there is none.
func (s Shelf) Picture(name string) ([]byte, error) {
	if m, err := s.Find(name); err != nil || !m.HasPicture {
		return nil, errors.Join(err, fs.ErrNotExist)
	}
	file, err := ownfile.Open(s.File(name))
	if err != nil {
		return nil, err
	}
	defer file.Close()
	expanded, err := zstd.NewReader(file, zstd.WithDecoderConcurrency(1))
	if err != nil {
		return nil, err
	}
	defer expanded.Close()
	reader := tar.NewReader(expanded)
	for range 2 { // it stands second
		head, err := reader.Next()
		if err != nil {
			return nil, err
		}
		if head.Name == pictureName {
			return io.ReadAll(io.LimitReader(reader, 8<<20))
		}
	}
	return nil, fs.ErrNotExist
}

// Drop removes a stencil. Sites that were drawn from it stay.
func (s Shelf) Drop(name string) error {
	if _, err := s.Find(name); errors.Is(err, fs.ErrNotExist) {
		return err
	}
	ownfile.Remove(s.descriptionFile(name))
	return ownfile.Remove(s.File(name))
}

// Describe changes a stencil's description, and its name where another one is given.
func (s Shelf) Describe(name, newName, description string) error {
	if _, err := s.Find(name); err != nil {
		return err
	}
	if err := ownfile.Write(s.descriptionFile(name), []byte(description), 0o600); err != nil {
		return err
	}
	if newName == "" || newName == name {
		return nil
	}
	if err := CheckName(newName); err != nil {
		return err
	}
	if err := ownfile.Link(s.File(name), s.File(newName)); err != nil {
		if errors.Is(err, fs.ErrExist) {
			return fmt.Errorf("there is a stencil %q already", newName)
		}
		return err
	}
	if err := ownfile.Rename(s.descriptionFile(name), s.descriptionFile(newName)); err != nil {
		return err
	}
	return ownfile.Remove(s.File(name))
}

// Import takes a stencil's file in, once all of it was unpacked and compared.
func (s Shelf) Import(ctx context.Context, name string, from io.Reader) (Manifest, error) {
	if err := CheckName(name); err != nil {
		return Manifest{}, err
	}
	if _, err := os.Stat(s.File(name)); err == nil {
		return Manifest{}, fmt.Errorf("there is a stencil %q already; drop it first, or choose another name", name)
	}
	if err := ownfile.Make(s.Dir, 0o700); err != nil {
		return Manifest{}, err
	}
	dir, err := os.MkdirTemp(s.Dir, ".partial-")
	if err != nil {
		return Manifest{}, err
	}
	defer ownfile.RemoveAll(dir)
	file := filepath.Join(dir, "file")
	to, err := ownfile.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return Manifest{}, err
	}
	_, err = io.Copy(to, from)
	if err = errors.Join(err, to.Close()); err != nil {
		return Manifest{}, err
	}
	if _, err := Read(file); err != nil {
		return Manifest{}, errors.New(strings.ReplaceAll(err.Error(), file, "the file"))
	}
	var files, database string
	if err := openInto(ctx, file, filepath.Join(dir, "whole"), &files, &database); err != nil {
		return Manifest{}, err
	}
	if err := ownfile.Link(file, s.File(name)); err != nil {
		return Manifest{}, err
	}
	return s.Find(name)
}
