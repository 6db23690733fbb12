package archive

import (
	"archive/tar"
	"archive/zip"
	"errors"
	"io"
	"path"

	"vessik/internal/ownfile"
)

// What is looked through for one file, in bytes as they are unpacked, and how much of that file is read.
const (
	lookedThrough = 2 << 30
	readOfOne     = 64 << 10
)

// Find returns the first entry that fits, with its beginning; an empty name where there is none. Nothing is unpacked.
func Find(file string, fits func(name string) bool) (name string, head []byte, err error) {
	err = Each(file, func(each string, content io.Reader) error {
		if !fits(each) {
			return nil
		}
		name = each
		if head, err = io.ReadAll(io.LimitReader(content, readOfOne)); err != nil {
			return err
		}
		return io.EOF
	})
	return name, head, err
}

// Each comes by the files of an archive in their order, until visit returns an error, of which io.EOF is none. Nothing is unpacked, and
// what lies behind the first 2 GB of a tar archive is not seen.
func Each(file string, visit func(name string, content io.Reader) error) error {
	source, err := ownfile.Open(file)
	if err != nil {
		return err
	}
	defer source.Close()
	info, err := source.Stat()
	if err != nil {
		return err
	}
	expanded, end, err := expand(source)
	if err != nil {
		return err
	}
	defer end()
	if expanded == nil {
		err = eachInZip(source, info.Size(), visit)
	} else {
		err = eachInTar(io.LimitReader(expanded, lookedThrough), visit)
	}
	if errors.Is(err, io.EOF) {
		return nil
	}
	return err
}

func eachInTar(expanded io.Reader, visit func(name string, content io.Reader) error) error {
	reader := tar.NewReader(expanded)
	for {
		entry, err := reader.Next()
		if err != nil {
			return err
		}
		if entry.Typeflag == tar.TypeReg {
			if err := visit(path.Clean(entry.Name), reader); err != nil {
				return err
			}
		}
	}
}

func eachInZip(source io.ReaderAt, size int64, visit func(name string, content io.Reader) error) error {
	reader, err := zip.NewReader(source, size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return err
	}
	for _, entry := range reader.File {
		if !entry.Mode().IsRegular() {
			continue
		}
		content, err := entry.Open()
		if err != nil {
			return err
		}
		err = visit(path.Clean(entry.Name), content)
		content.Close()
		if err != nil {
			return err
		}
	}
	return nil
}
