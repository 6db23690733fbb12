package blobs

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func noise(seed uint64, length int) []byte {
	random, text := rand.New(rand.NewPCG(seed, 1)), make([]byte, length)
	for i := range text {
		text[i] = byte(random.Uint32())
	}
	return text
}

func put(t require.TestingT, s Store, text []byte) []Ref {
	refs, err := s.Put(context.Background(), bytes.NewReader(text))
	require.NoError(t, err)
	return refs
}

func read(t require.TestingT, s Store, refs []Ref) []byte {
	var out bytes.Buffer
	require.NoError(t, s.Read(refs, &out))
	return out.Bytes()
}

func files(t *testing.T, s Store) (all []string) {
	err := filepath.WalkDir(s.Dir, func(path string, entry fs.DirEntry, err error) error {
		if err == nil && !entry.IsDir() {
			all = append(all, path)
		}
		return nil
	})
	require.NoError(t, err)
	return all
}

func TestWhatIsPutIsReadAgain(t *testing.T) {
	s := Store{Dir: t.TempDir()}
	rapid.Check(t, func(t *rapid.T) {
		text := noise(rapid.Uint64().Draw(t, "seed"), rapid.IntRange(0, 3<<20).Draw(t, "length"))
		refs := put(t, s, text)
		assert.True(t, bytes.Equal(text, read(t, s, refs)))
		total := 0
		for _, ref := range refs {
			total += ref.Size
			assert.LessOrEqual(t, ref.Size, longest)
		}
		assert.Equal(t, len(text), total)
	})
	assert.Empty(t, put(t, s, nil))
	text := noise(5, 2<<20)
	slow, err := s.Put(context.Background(), iotest.HalfReader(bytes.NewReader(text)))
	require.NoError(t, err)
	assert.Equal(t, put(t, s, text), slow, "however it comes")
	_, err = s.Put(context.Background(), io.MultiReader(bytes.NewReader(text), iotest.ErrReader(errors.New("gone"))))
	assert.ErrorContains(t, err, "gone")
}

// Of what was changed in the middle, or grew at its beginning, little is new.
func TestAChangeCostsLittle(t *testing.T) {
	s := Store{Dir: t.TempDir()}
	text := noise(1, 16<<20)
	put(t, s, text)
	before := len(files(t, s))
	changed := bytes.Clone(text)
	copy(changed[8<<20:], "moss")
	put(t, s, changed)
	put(t, s, append([]byte("-- a line before all others\n"), text...))
	assert.LessOrEqual(t, len(files(t, s)), before+6)
	assert.Greater(t, before, 20)
	put(t, s, text)
	assert.LessOrEqual(t, len(files(t, s)), before+6, "what is there costs nothing")
}

func TestADamagedBlobIsNamedAndMadeWholeAgain(t *testing.T) {
	s := Store{Dir: t.TempDir()}
	one, other := put(t, s, []byte("ferns")), put(t, s, []byte("moss"))
	for name, spoil := range map[string]func(path string) error{"gone": os.Remove,
		"empty":   func(path string) error { return os.Truncate(path, 0) },
		"other":   func(path string) error { return os.WriteFile(path, encoder().EncodeAll([]byte("moss"), nil), 0o600) },
		"garbage": func(path string) error { return os.WriteFile(path, []byte("xxxxx"), 0o600) }} {
		require.NoError(t, spoil(s.path(one[0].Sum)))
		var damaged *Damaged
		require.ErrorAs(t, s.Read(one, io.Discard), &damaged, name)
		assert.Equal(t, one[0].Sum, damaged.Sum)
		assert.Equal(t, "moss", string(read(t, s, other)), "the rest is good")
		assert.Error(t, s.Check(one[0]))
		put(t, s, []byte("ferns"))
		assert.NoError(t, s.Check(one[0]))
		assert.Equal(t, "ferns", string(read(t, s, one)))
	}
	assert.Error(t, s.Check(Ref{Sum: "../../x"}))
	assert.NoError(t, s.Sync())
}

func TestWhatNobodyNamesIsSwept(t *testing.T) {
	s := Store{Dir: filepath.Join(t.TempDir(), "blobs")}
	require.NoError(t, s.Sweep(nil))
	kept, left := put(t, s, []byte("ferns")), put(t, s, []byte("moss"))
	require.NoError(t, os.WriteFile(filepath.Join(filepath.Dir(s.path(kept[0].Sum)), unfinished+"1"), []byte("half"), 0o600))
	require.NoError(t, s.Sweep(map[string]bool{kept[0].Sum: true}))
	assert.Equal(t, []string{s.path(kept[0].Sum)}, files(t, s))
	assert.Error(t, s.Read(left, io.Discard))
	require.NoError(t, s.Sweep(nil))
	assert.NoDirExists(t, s.Dir)
}

// What one side has in pieces, the other one puts together again; nobody says what a piece is called but whoever keeps it.
func TestPiecesGoFromStoreToStore(t *testing.T) {
	there, text := Store{Dir: t.TempDir()}, noise(7, 3<<20)
	carried, sums := 0, []string{}
	carry := func(text []byte) []byte {
		carried, sums = 0, nil
		var refs []Ref
		require.NoError(t, Pieces(bytes.NewReader(text), func(sum string, piece []byte) error {
			sums = append(sums, sum)
			refs = append(refs, Ref{Sum: sum})
			if _, has := there.Find(sum); has {
				return nil
			}
			carried += len(piece)
			ref, err := there.Take(Pack(piece))
			assert.Equal(t, sum, ref.Sum)
			return err
		}))
		return read(t, there, refs)
	}
	assert.Equal(t, text, carry(text))
	assert.Equal(t, len(text), carried)
	changed := append(append(bytes.Clone(text[:1<<20]), "a word"...), text[1<<20:]...)
	assert.Equal(t, changed, carry(changed))
	assert.Less(t, carried, 2*longest, "what did not change is not carried again")
	for _, bad := range [][]byte{nil, []byte("no piece"), Pack(nil), Pack(make([]byte, longest+1))} {
		_, err := there.Take(bad)
		assert.Error(t, err)
	}
	for _, sum := range []string{"", "..", "../../../../etc/passwd", sums[0][:63], sums[0] + "0", "zz" + sums[0][2:]} {
		_, has := there.Find(sum)
		assert.False(t, has, sum)
	}
}
