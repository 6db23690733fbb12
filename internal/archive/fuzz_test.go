package archive

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"context"
	"os"
	"path/filepath"
	"testing"
)

// Whatever an archive holds, nothing is written outside its folder, and on failure nothing inside.
func FuzzUnpack(f *testing.F) {
	var zipped, tarred bytes.Buffer
	z := zip.NewWriter(&zipped)
	for _, name := range []string{"a/index.php", "../x", "/etc/x", "a/../../b"} {
		w, _ := z.Create(name)
		w.Write([]byte("fern"))
	}
	z.Close()
	t := tar.NewWriter(&tarred)
	t.WriteHeader(&tar.Header{Name: "link", Typeflag: tar.TypeSymlink, Linkname: "/etc"})
	t.WriteHeader(&tar.Header{Name: "link/x", Size: 4, Mode: 0o644, Typeflag: tar.TypeReg})
	t.Write([]byte("fern"))
	t.Close()
	f.Add(zipped.Bytes())
	f.Add(tarred.Bytes())
	f.Fuzz(func(t *testing.T, content []byte) {
		outer := t.TempDir()
		file, dir := filepath.Join(outer, "a.zip"), filepath.Join(outer, "in", "dir")
		os.WriteFile(file, content, 0o600)
		err := Unpack(context.Background(), file, dir, Limits{Bytes: 1 << 20, Entries: 100, Ratio: 200})
		found, _ := filepath.Glob(filepath.Join(outer, "*"))
		if len(found) > 2 {
			t.Fatalf("written outside: %v", found)
		}
		if left, _ := os.ReadDir(dir); err != nil && len(left) > 0 {
			t.Fatalf("left behind after %v", err)
		}
	})
}
