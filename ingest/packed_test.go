package ingest_test

import (
	"bytes"
	"compress/gzip"
	"io"
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
	for _, plain := range []string{"", "a", "start,client\n"} {
		r, err := ingest.Unpacked(strings.NewReader(plain))
		require.NoError(t, err)
		got, err := io.ReadAll(r)
		require.NoError(t, err)
		require.Equal(t, plain, string(got))
	}
}

// A file that only another program reads is named for what it is, with what to do.
func TestForeignFilesAreNamed(t *testing.T) {
	_, err := ingest.ReadTraffic(bytes.NewReader([]byte("\x0c\xa5\x02\x00 and more of it")), 16,
		ingest.TrafficOptions{})
	require.ErrorContains(t, err, "nfdump -r FILE -o csv")
}
