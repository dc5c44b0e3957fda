package ingest

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"

	"github.com/klauspost/compress/zstd"
)

// mostUnpacking is how much memory unpacking may take: of what a file says that it needs.
const mostUnpacking = 256 << 20

// Unpacked returns what is in a file that is packed with gzip (RFC 1952) or Zstandard (RFC
// 8878), told by its first octets; any other as it is.
func Unpacked(in io.Reader) (io.Reader, error) {
	b := bufio.NewReaderSize(in, 1<<16)
	head, _ := b.Peek(4)
	switch {
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		z, err := gzip.NewReader(b)
		if err != nil {
			return nil, &UnpackError{"gzip", err}
		}
		return &unpacking{"gzip", z}, nil
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		z, err := zstd.NewReader(b, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(mostUnpacking))
		if err != nil {
			return nil, &UnpackError{"Zstandard", err}
		}
		return &unpacking{"Zstandard", z}, nil
	}
	return b, nil
}

// UnpackError reports that a packed file is damaged.
type UnpackError struct {
	Form string
	Err  error
}

func (e *UnpackError) Error() string {
	if errors.Is(e.Err, io.ErrUnexpectedEOF) {
		return "the " + e.Form + " file ends too soon"
	}
	return fmt.Sprintf("the %s file cannot be unpacked: %s", e.Form, e.Err)
}

func (e *UnpackError) Unwrap() error { return e.Err }

// unpacking names what its errors are of.
type unpacking struct {
	form string
	r    io.Reader
}

func (u *unpacking) Read(p []byte) (int, error) {
	n, err := u.r.Read(p)
	if err != nil && err != io.EOF {
		err = &UnpackError{u.form, err}
	}
	return n, err
}

// unreadable names files that cannot be read as they are, and says what to do; blank: it is
// none of them.
func unreadable(head []byte) string {
	if len(head) >= 4 && (head[0] == 0x0c && head[1] == 0xa5 || head[0] == 0xa5 && head[1] == 0x0c) {
		return "this is a file of nfcapd, which only nfdump reads; write it as a table with nfdump -r FILE -o csv > flows.csv, and import that"
	}
	return ""
}
