package disk

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestALowDiskIsSaidGivesUpItsReserveAndRecovers(t *testing.T) {
	dir := t.TempDir()
	w := New(1<<20, Folder{"the data", dir}, Folder{"the spool", filepath.Join(dir)})
	free := int64(100 << 20)
	w.free = func(string) (int64, error) { return free, nil }
	reserve := filepath.Join(dir, reserveFile)
	w.look()
	require.NoError(t, w.Room(""))
	info, err := os.Stat(reserve)
	require.NoError(t, err)
	require.Equal(t, int64(1<<20), info.Size())

	changed := w.Changed()
	free = 1<<20 - 1
	w.look()
	<-changed
	err = w.Room("the spool")
	require.ErrorContains(t, err, "the disk of the spool ("+dir+") is full since ")
	require.FileExists(t, reserve)
	since := w.States()[0].Since

	free = 1000 // somebody else fills it up to the brim
	w.look()
	require.NoFileExists(t, reserve)
	last := filepath.Join(dir, lastFile)
	require.FileExists(t, last, "what the end needs is nobody else's")
	require.Equal(t, since, w.States()[0].Since)

	free = 3 << 19 // not yet enough to go on
	w.look()
	require.ErrorContains(t, w.Room(""), ": 1 MB are free, and writing resumes at 2 MB")
	free = 2 << 20
	w.look()
	require.NoError(t, w.Room(""))
	require.NoFileExists(t, reserve)
	free = 4 << 20
	w.look()
	require.FileExists(t, reserve)
	w.Release()
	require.NoFileExists(t, reserve)
	require.NoFileExists(t, last)
}

func TestWhoWatchesNothingHasRoom(t *testing.T) {
	var w *Watch
	require.NoError(t, w.Room(""))
	require.Nil(t, w.Changed())
}
