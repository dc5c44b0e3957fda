package ingest

// How a file of rows is written: guessed from its beginning, shown, changed by
// people, saved for the next file of the kind.

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	encoding "golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
)

// Form is the format of a file of rows, with the meaning of its columns and words. What
// is blank is guessed from the file. As JSON it is what the interface saves and
// the command line takes with --map.
type Form struct {
	Kind      string `json:"kind,omitempty" enum:"workloads,flows" doc:"What it is a form of, where it is saved"`
	Encoding  string `json:"encoding,omitempty" enum:"utf-8,utf-16le,utf-16be,windows-1252"`
	Delimiter string `json:"delimiter,omitempty" doc:"Of a table: a comma, semicolon, tab, bar or blank"`
	Header    int    `json:"header,omitempty" minimum:"0" doc:"Of a table: the line with the names of the columns"`
	Pointer   string `json:"pointer,omitempty" doc:"Of JSON: where the list of rows stands (RFC 6901)"`
	Loose     bool   `json:"loose,omitempty" doc:"Of a table: a quote may stand in the middle of a cell"`
	// Columns has the meaning of each heading; blank: left out. Headings of JSON are
	// the members of a row, with / between those of nested ones.
	Columns   Mapping           `json:"columns,omitempty" doc:"What each heading is read as; blank: left out"`
	Zone      string            `json:"zone,omitempty" doc:"Of times that name none: such as Europe/Oslo; blank: UTC"`
	Days      string            `json:"days,omitempty" enum:"day-first,month-first" doc:"How 4/5/2026 is read"`
	Outcomes  map[string]string `json:"outcomes,omitempty" doc:"Of flows: the words for carried, dropped and unknown"`
	Protocols map[string]string `json:"protocols,omitempty" doc:"Of flows: the words for protocols"`
}

// Encodings that a file may be in.
const (
	UTF8    = "utf-8"
	utF16LE = "utf-16le"
	utF16BE = "utf-16be"
	Western = "windows-1252" // which has Latin-1 in it
)

// delimiters are what may stand between two cells, the likeliest first.
var delimiters = []string{",", ";", "\t", "|", " "}

// Check reports what of a form cannot be meant.
func (f *Form) Check() error {
	if !slices.Contains([]string{"", UTF8, utF16LE, utF16BE, Western}, f.Encoding) {
		return fmt.Errorf("encoding: found %q, expected %s, %s, %s or %s", f.Encoding, UTF8, utF16LE, utF16BE,
			Western)
	}
	if f.Delimiter != "" && !slices.Contains(delimiters, f.Delimiter) {
		return fmt.Errorf("delimiter: found %q, expected a comma, a semicolon, a tab, | or a blank", f.Delimiter)
	}
	if f.Header < 0 || f.Header > mostPreamble {
		return fmt.Errorf("header: found line %d, expected 1 to %d", f.Header, mostPreamble)
	}
	if f.Zone != "" {
		if _, err := time.LoadLocation(f.Zone); err != nil {
			return fmt.Errorf("zone: found %q, expected the name of a time zone such as UTC or Europe/Oslo", f.Zone)
		}
	}
	if !slices.Contains([]string{"", dayFirst, monthFirst}, f.Days) {
		return fmt.Errorf("days: found %q, expected %s or %s", f.Days, dayFirst, monthFirst)
	}
	for word, as := range f.Outcomes {
		if !slices.Contains([]string{"carried", "dropped", "unknown"}, as) {
			return fmt.Errorf("outcomes: found %q for the word %q, expected carried, dropped or unknown", as, word)
		}
	}
	for word, as := range f.Protocols {
		if _, ok := parseProto(as); !ok {
			return fmt.Errorf("protocols: found %q for the word %q, expected tcp, udp, sctp, icmp, icmp6 or a number "+
				"from 0 to 255", as, word)
		}
	}
	return nil
}

const mostPreamble = 200 // lines before the header

// text decodes a file. Its lines end with a line feed, also where the file has carriage returns
// alone, as some old programs write them.
func (f *Form) text(in io.Reader) io.Reader {
	switch f.Encoding {
	case utF16LE:
		in = transform.NewReader(in, encoding.UTF16(encoding.LittleEndian, encoding.UseBOM).NewDecoder())
	case utF16BE:
		in = transform.NewReader(in, encoding.UTF16(encoding.BigEndian, encoding.UseBOM).NewDecoder())
	case Western:
		in = transform.NewReader(in, charmap.Windows1252.NewDecoder())
	}
	const beginning = 1 << 16
	b := bufio.NewReaderSize(in, beginning)
	if mark, _ := b.Peek(3); string(mark) == "\ufeff" {
		_, _ = b.Discard(3)
	}
	if head, _ := b.Peek(beginning); bytes.IndexByte(head, '\n') < 0 && bytes.IndexByte(head, '\r') >= 0 {
		return carriageReturns{b}
	}
	if mark, _ := b.Peek(len(commented)); string(mark) == commented {
		return &commentedTable{lines: b}
	}
	return b
}

// carriageReturns reads a text whose lines end with carriage returns as one with line feeds.
type carriageReturns struct{ text io.Reader }

func (c carriageReturns) Read(p []byte) (int, error) {
	n, err := c.text.Read(p)
	for i := range n {
		if p[i] == '\r' {
			p[i] = '\n'
		}
	}
	return n, err
}

// encodingOf guesses the encoding of a file by its beginning.
func encodingOf(head []byte, whole bool) string {
	switch {
	case bytes.HasPrefix(head, []byte("\xff\xfe")):
		return utF16LE
	case bytes.HasPrefix(head, []byte("\xfe\xff")):
		return utF16BE
	case bytes.HasPrefix(head, []byte("\ufeff")):
		return UTF8
	}
	var even, odd int
	for i, c := range head[:min(len(head), 4096)] {
		if c == 0 && i%2 == 0 {
			even++
		} else if c == 0 {
			odd++
		}
	}
	if n := min(len(head), 4096) / 4; n > 0 && odd > n && even < n/4 {
		return utF16LE
	} else if n > 0 && even > n && odd < n/4 {
		return utF16BE
	}
	if !whole { // the last character may be cut
		for i := 0; i < utf8.UTFMax && len(head) > 0 && !utf8.Valid(head); i++ {
			head = head[:len(head)-1]
		}
	}
	if utf8.Valid(head) {
		return UTF8
	}
	return Western
}

// Look is the beginning of a file, as a form reads it.
type Look struct {
	Form     Form       // with what was guessed
	Headings []string   // as they stand in the file
	First    [][]string // rows
	Sample   [][]string // more rows, that words and times are guessed from
	JSON     bool
}

const sampled = 2000 // rows that words and times are guessed from

// LookAt reads the beginning of a file, of at most about a megabyte: what the form
// leaves open is guessed, but for the columns. whole says that it is all of it.
func LookAt(head []byte, whole bool, f Form, rows int) (*Look, error) {
	if err := f.Check(); err != nil {
		return nil, err
	}
	if f.Encoding == "" {
		f.Encoding = encodingOf(head, whole)
	}
	text, _ := io.ReadAll(f.text(bytes.NewReader(head)))
	if len(bytes.TrimSpace(text)) == 0 {
		return nil, errHeader{RowError{Line: 1,
			Reason: "found an empty file, expected a header line with the names of the columns"}}
	}
	l := &Look{First: [][]string{}, JSON: isJSON(text)}
	switch {
	case l.JSON && f.Pointer == "":
		f.Pointer = pointerIn(text)
	case !l.JSON && (f.Delimiter == "" || f.Header == 0):
		f.guessTable(text, whole)
	}
	t, err := newTable(bytes.NewReader(head), &f)
	if err != nil {
		return nil, err
	}
	l.Form, l.Headings = f, slices.Clone(t.header)
	for range 2 * sampled {
		cells, err := t.next()
		if len(l.Sample) == sampled {
			break
		}
		var bad *RowError
		if err != nil && !errors.As(err, &bad) {
			break // the end, or where it was cut
		}
		if err == nil {
			l.Sample = append(l.Sample, slices.Clone(cells))
		}
	}
	if !whole && len(l.Sample) > 1 && len(l.Sample) < sampled {
		l.Sample = l.Sample[:len(l.Sample)-1] // it may be cut
	}
	l.First = append(l.First, l.Sample[:min(rows, len(l.Sample))]...)
	return l, nil
}

// Looked is how many octets of a file LookAt needs at most.
const Looked = 1 << 20

// WesternBehind reports whether a file that begins as UTF-8 is not: a character
// that is none may stand far behind.
func WesternBehind(in io.Reader) bool {
	buf := make([]byte, 1<<18)
	rest := 0
	for {
		n, err := io.ReadFull(in, buf[rest:])
		chunk := buf[:rest+n]
		end := len(chunk)
		if err == nil { // the last character may be cut
			for k := 1; k <= utf8.UTFMax && k <= len(chunk); k++ {
				if utf8.RuneStart(chunk[len(chunk)-k]) {
					if !utf8.FullRune(chunk[len(chunk)-k:]) {
						end = len(chunk) - k
					}
					break
				}
			}
		}
		if !utf8.Valid(chunk[:end]) {
			return true
		}
		if err != nil {
			return false
		}
		rest = copy(buf, chunk[end:])
	}
}

// guessTable finds the delimiter and the line of the header: the way of reading
// with the most lines of one number of cells, of at least two, and a line
// of names above them.
func (f *Form) guessTable(text []byte, whole bool) {
	lines := strings.SplitAfter(string(text), "\n")
	if !whole && len(lines) > 1 {
		lines = lines[:len(lines)-1]
	}
	lines = lines[:min(len(lines), mostPreamble+200)]
	try := delimiters
	if f.Delimiter != "" {
		try = []string{f.Delimiter}
	}
	best, said := -1, f.Header
	for _, d := range try {
		counts := map[int]int{}
		widths := make([]int, len(lines))
		loose, some := false, 0
		for i, line := range lines {
			cells, strict := cut(line, d)
			loose = loose || !strict
			widths[i] = len(cells)
			if strings.TrimSpace(line) != "" {
				some++
				counts[len(cells)]++
			}
		}
		width, n := 1, 0
		for w, k := range counts {
			if w > 1 && (k > n || k == n && w > width) {
				width, n = w, k
			}
		}
		header := said
		if header == 0 {
			header = headerOf(lines, widths, width, d)
		}
		score := n * min(width, 8)
		if width == 1 && d == "," { // a single column
			score = 0
		}
		if d == " " && (width < 6 || 10*n < 9*some) { // words of sentences are no cells
			score = 0
		}
		if score > best {
			best = score
			f.Delimiter, f.Loose, f.Header = d, loose, header
		}
	}
}

// headerOf finds the line of the names: the first of the table's width whose
// cells are all names.
func headerOf(lines []string, widths []int, width int, delimiter string) int {
	for i, w := range widths {
		if w != width && !(w == width+1 || w == width-1) || w < 2 && width > 1 {
			continue
		}
		cells, _ := cut(lines[i], delimiter)
		names := 0
		for _, c := range cells {
			c = strings.TrimSpace(c)
			if c != "" && unicode.IsLetter([]rune(c)[0]) && !strings.ContainsAny(c, "@=") || c == "#" || c == "№" {
				names++
			}
		}
		if w == width && names*3 >= 2*len(cells) {
			return i + 1
		}
	}
	for i, w := range widths {
		if w == width {
			return i + 1
		}
	}
	return 1
}

// cut cuts one line into cells, and says whether its quotes are as they should be.
func cut(line, delimiter string) (cells []string, strict bool) {
	line = strings.TrimRight(line, "\r\n")
	if line == "" {
		return nil, true
	}
	r := csv.NewReader(strings.NewReader(line))
	r.Comma, r.FieldsPerRecord = rune(delimiter[0]), -1
	if cells, err := r.Read(); err == nil {
		return cells, true
	}
	// A cell may go on in the next line; else the quote stands in its middle.
	return strings.Split(line, delimiter), strings.Count(line, `"`)%2 == 1
}
