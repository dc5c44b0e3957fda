package ingest_test

import (
	"bytes"
	"compress/gzip"
	"io"
	"os"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/ingest"
)

func packed(t require.TestingT, form string, text []byte) []byte {
	var b bytes.Buffer
	var w io.WriteCloser = gzip.NewWriter(&b)
	if form == "zstd" {
		z, err := zstd.NewWriter(&b)
		require.NoError(t, err)
		w = z
	}
	_, err := w.Write(text)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

// Packed or not, a file says the same; one that ends too soon, or is damaged, is an error
// that says so, and never less than was packed without one.
func TestPackedFilesSayTheSame(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := []byte(strings.Repeat(rapid.StringMatching(`[ -~\n]{0,300}`).Draw(t, "text"),
			rapid.IntRange(0, 30).Draw(t, "times")))
		form := rapid.SampledFrom([]string{"gzip", "zstd"}).Draw(t, "form")
		file := packed(t, form, text)
		r, err := ingest.Unpacked(bytes.NewReader(file))
		require.NoError(t, err)
		got, err := io.ReadAll(r)
		require.NoError(t, err)
		require.Equal(t, string(text), string(got))
		cut := rapid.IntRange(4, max(4, len(file)-1)).Draw(t, "cut")
		if cut >= len(file) {
			return
		}
		if r, err = ingest.Unpacked(bytes.NewReader(file[:cut])); err == nil {
			_, err = io.ReadAll(r)
		}
		var bad *ingest.UnpackError
		require.ErrorAs(t, err, &bad)
	})
	for _, plain := range []string{"", "a", "start,client\n", "BZh"} {
		r, err := ingest.Unpacked(strings.NewReader(plain))
		require.NoError(t, err)
		got, err := io.ReadAll(r)
		require.NoError(t, err)
		require.Equal(t, plain, string(got))
	}
}

// What other programs have packed (bzip2 1.0, xz 5.4) is read; one that is cut off, or asks for too much
// memory, is an error.
func TestFilesThatOtherProgramsPacked(t *testing.T) {
	text := strings.Repeat("start,src,dst,proto,dport\n2026-11-20T10:00:00Z,10.0.0.1,10.0.0.2,tcp,443\n", 5000)
	for form, name := range map[string]string{"bzip2": "flows.csv.bz2", "xz": "flows.csv.xz"} {
		file, err := os.ReadFile("testdata/" + name)
		require.NoError(t, err)
		read := func(file []byte) (string, error) {
			r, err := ingest.Unpacked(bytes.NewReader(file))
			if err != nil {
				return "", err
			}
			got, err := io.ReadAll(r)
			return string(got), err
		}
		got, err := read(file)
		require.NoError(t, err)
		require.Equal(t, text, got)
		both, err := read(append(bytes.Clone(file), file...))
		require.NoError(t, err, "one behind the other")
		require.Equal(t, text+text, both)
		_, err = read(file[:len(file)/2])
		var bad *ingest.UnpackError
		require.ErrorAs(t, err, &bad)
		require.Equal(t, form, bad.Form)
	}
	huge := append([]byte{0xfd, '7', 'z', 'X', 'Z', 0, 0, 4, 0xe6, 0xd6, 0xb4, 0x46, 2, 0, 0x21, 1, 40},
		make([]byte, 64)...)
	_, err := ingest.Unpacked(bytes.NewReader(huge))
	require.ErrorContains(t, err, "MiB of memory")
}

// A file that only another program reads is named for what it is, with what to do.
func TestForeignFilesAreNamed(t *testing.T) {
	_, err := ingest.ReadTraffic(bytes.NewReader([]byte("\x0c\xa5\x02\x00 and more of it")), 16,
		ingest.TrafficOptions{})
	require.ErrorContains(t, err, "nfdump -r FILE -o csv")
}
