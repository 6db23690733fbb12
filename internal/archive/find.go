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
	source, err := ownfile.Open(file)
	if err != nil {
		return "", nil, err
	}
	defer source.Close()
	info, err := source.Stat()
	if err != nil {
		return "", nil, err
	}
	expanded, end, err := expand(source)
	if err != nil {
		return "", nil, err
	}
	defer end()
	if expanded == nil {
		return findInZip(source, info.Size(), fits)
	}
	reader := tar.NewReader(io.LimitReader(expanded, lookedThrough))
	for {
		entry, err := reader.Next()
		if errors.Is(err, io.EOF) {
			return "", nil, nil
		}
		if err != nil {
			return "", nil, err
		}
		if name := path.Clean(entry.Name); entry.Typeflag == tar.TypeReg && fits(name) {
			head, err := io.ReadAll(io.LimitReader(reader, readOfOne))
			return name, head, err
		}
	}
}

func findInZip(source io.ReaderAt, size int64, fits func(name string) bool) (name string, head []byte, err error) {
	reader, err := zip.NewReader(source, size)
	if err != nil {
		return "", nil, err
	}
	for _, entry := range reader.File {
		if name := path.Clean(entry.Name); entry.Mode().IsRegular() && fits(name) {
			content, err := entry.Open()
			if err != nil {
				return "", nil, err
			}
			defer content.Close()
			head, err := io.ReadAll(io.LimitReader(content, readOfOne))
			return name, head, err
		}
	}
	return "", nil, nil
}
