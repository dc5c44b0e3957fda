package imports

import (
	"errors"
	"io"
	"os"

	"lucidorchard/ingest"
	"lucidorchard/refuse"
)

// File is a file that was sent here, whole. It belongs to who closes it.
type File struct {
	Path string
	Size int64
	Sum  string // SHA-256, hexadecimal
	Head []byte // its first octets
}

// Open opens the file to be read from its beginning.
func (f *File) Open() (*os.File, error) { return os.Open(f.Path) }

// Close removes the file.
func (f *File) Close() { _ = os.Remove(f.Path) }

// Beginning looks at how a file is written.
func Beginning(file *File, form ingest.Form) (*ingest.Look, error) {
	f, err := file.Open()
	if err != nil {
		return nil, err
	}
	defer f.Close()
	head := make([]byte, ingest.Looked)
	n, err := io.ReadFull(f, head)
	whole := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
	if err != nil && !whole {
		return nil, err
	}
	look, err := ingest.LookAt(head[:n], whole, form, shownRows)
	if err == nil && form.Encoding == "" && look.Form.Encoding == ingest.UTF8 && !whole && ingest.WesternBehind(f) {
		form.Encoding = ingest.Western
		look, err = ingest.LookAt(head[:n], whole, form, shownRows)
	}
	if err != nil {
		return nil, refuse.Invalid("the file cannot be used: " + err.Error())
	}
	return look, nil
}

const shownRows = 4

// Columns completes what the columns of a look are: as said now, else as they
// were read before, else as they are usually called.
func Columns(look *ingest.Look, guess func([]string) ingest.Mapping, before map[string]string) {
	said := look.Form.Columns
	look.Form.Columns = guess(look.Headings)
	for _, m := range []map[string]string{before, said} {
		for h, to := range m {
			if _, ok := look.Form.Columns[h]; ok {
				look.Form.Columns[h] = to
			}
		}
	}
	look.GuessDays()
}
