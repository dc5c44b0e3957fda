package ingest

import (
	"bufio"
	"bytes"
	"compress/bzip2"
	"compress/gzip"
	"errors"
	"fmt"
	"io"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
)

// mostUnpacking is how much memory unpacking may take: of what a file says that it needs.
const mostUnpacking = 256 << 20

// Unpacked returns what is in a file that is packed with gzip (RFC 1952), Zstandard (RFC 8878),
// bzip2 or xz, as its first octets show; any other as it is.
func Unpacked(in io.Reader) (io.Reader, error) {
	b := bufio.NewReaderSize(in, 1<<16)
	head, _ := b.Peek(64)
	switch {
	case bytes.HasPrefix(head, []byte("BZh")) && len(head) > 9 && bytes.HasPrefix(head[4:], []byte("1AY&SY")):
		return &unpacking{"bzip2", bzip2.NewReader(b)}, nil
	case bytes.HasPrefix(head, []byte{0xfd, '7', 'z', 'X', 'Z', 0}):
		if room := xzNeeds(head); room > mostUnpacking {
			return nil, &UnpackError{"xz", fmt.Errorf("it needs %d MiB of memory, and %d are the most", room>>20,
				mostUnpacking>>20)}
		}
		z, err := xz.NewReader(b)
		if err != nil {
			return nil, &UnpackError{"xz", err}
		}
		return &unpacking{"xz", z}, nil
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

// xzNeeds returns the size of the dictionary, in octets, that the first block of an xz file asks
// for (The .xz File Format, 3.1); 0, if its header is not as expected.
func xzNeeds(head []byte) uint64 {
	const streamHeader, lzma2 = 12, 0x21
	if len(head) < streamHeader+2 {
		return 0
	}
	flags, rest := head[streamHeader+1], head[streamHeader+2:]
	for _, has := range []byte{0x40, 0x80} { // sizes, in groups of seven bits
		for flags&has != 0 && len(rest) > 0 && rest[0]&0x80 != 0 {
			rest = rest[1:]
		}
		if flags&has != 0 && len(rest) > 0 {
			rest = rest[1:]
		}
	}
	if len(rest) < 3 || rest[0] != lzma2 || rest[1] != 1 || rest[2] > 40 {
		return 0
	}
	return uint64(2|rest[2]&1) << (rest[2]/2 + 11)
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
