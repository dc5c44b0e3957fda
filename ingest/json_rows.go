package ingest

// JSON as a table: each row an object, nested members with / between their names.

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
)

func isJSON(head []byte) bool {
	text := bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\ufeff")), " \t\r\n")
	return len(text) > 0 && (text[0] == '{' || text[0] == '[' && !bytes.HasPrefix(text, []byte("[#")))
}

// aLineEach stands for objects one after the other, as JSON Lines has them.
const aLineEach = "-"

// pointerIn finds where the rows stand: objects one after the other, or the first
// list of objects.
func pointerIn(head []byte) string {
	d := json.NewDecoder(bytes.NewReader(head))
	var path []string
	found := ""
	var walk func() error
	walk = func() error {
		t, err := d.Token()
		if err != nil {
			return err
		}
		switch t {
		case json.Delim('{'):
			for d.More() {
				k, err := d.Token()
				if err != nil {
					return err
				}
				path = append(path, fmt.Sprint(k))
				if err := walk(); err != nil {
					return err
				}
				path = path[:len(path)-1]
			}
			_, err = d.Token()
		case json.Delim('['):
			if rest, ok := peek(d); ok && rest == '{' {
				found = pointerOf(path)
				return errFound
			}
			for d.More() {
				if err := walk(); err != nil {
					return err
				}
			}
			_, err = d.Token()
		}
		return err
	}
	// What comes first decides: a second object means a line each.
	err := walk()
	if found != "" || errors.Is(err, errFound) {
		if text := bytes.TrimLeft(head, " \t\r\n\ufeff"); len(text) > 0 && text[0] == '{' && severalObjects(head) {
			return aLineEach
		}
		return found
	}
	return aLineEach
}

var errFound = errors.New("found")

// severalObjects reports whether objects stand one after the other.
func severalObjects(head []byte) bool {
	d := json.NewDecoder(bytes.NewReader(head))
	var one json.RawMessage
	if d.Decode(&one) != nil {
		return false
	}
	return d.More()
}

// peek returns the next character that is no blank, of what the decoder has read.
func peek(d *json.Decoder) (byte, bool) {
	rest, _ := io.ReadAll(io.LimitReader(d.Buffered(), 256))
	if rest = bytes.TrimLeft(rest, " \t\r\n"); len(rest) > 0 {
		return rest[0], true
	}
	return 0, false
}

func pointerOf(path []string) string {
	out := ""
	for _, p := range path {
		out += "/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(p)
	}
	if out == "" {
		return "/"
	}
	return out
}

// jsonRows reads objects of JSON as rows.
type jsonRows struct {
	in     *resumed
	d      *json.Decoder
	listed bool // in a list; else one after the other
	ahead  []jsonRow
	order  []string
	n      int      // of the row that was given last, from 1
	late   []string // members that no row ahead has, the first of them
	index  map[string]int
	cells  []string
}

// jsonRow is the cells of a row by their names; nil: what stands there is none.
type jsonRow struct {
	cells  map[string]string
	broken string // what is wrong with its JSON
}

// rowsAhead are read before the headings are known.
const rowsAhead = 500

const mostLate = 20 // members that are named

func newJSONRows(in io.Reader, pointer string) (*jsonRows, error) {
	from := &resumed{in: bufio.NewReaderSize(in, 1<<16)}
	j := &jsonRows{in: from, d: json.NewDecoder(from), index: map[string]int{}}
	j.d.UseNumber()
	if pointer != aLineEach {
		if err := j.find(pointer); err != nil {
			return nil, err
		}
		j.listed = true
	}
	for range rowsAhead {
		row, err := j.object()
		if err == io.EOF {
			break
		}
		if err != nil && len(j.ahead) == 0 {
			return nil, err
		}
		if err != nil {
			break // it is said when the row's turn comes
		}
		j.ahead = append(j.ahead, row)
	}
	for i, name := range j.order {
		j.index[name] = i
	}
	if len(j.order) == 0 {
		return nil, errors.New("found no objects with members, expected a list of them")
	}
	return j, nil
}

// find goes to the list that a pointer names.
func (j *jsonRows) find(pointer string) error {
	var path []string
	if pointer != "/" {
		for _, p := range strings.Split(strings.TrimPrefix(pointer, "/"), "/") {
			path = append(path, strings.NewReplacer("~1", "/", "~0", "~").Replace(p))
		}
	}
	lost := fmt.Errorf("pointer: found no list at %q in the file", pointer)
	for _, name := range path {
		t, err := j.d.Token()
		if err != nil {
			return lost
		}
		switch t {
		case json.Delim('{'):
			for {
				if !j.d.More() {
					return lost
				}
				k, err := j.d.Token()
				if err != nil {
					return lost
				}
				if k == name {
					break
				}
				var skip json.RawMessage
				if j.d.Decode(&skip) != nil {
					return lost
				}
			}
		case json.Delim('['):
			n, err := strconv.Atoi(name)
			if err != nil {
				return lost
			}
			for range n {
				var skip json.RawMessage
				if !j.d.More() || j.d.Decode(&skip) != nil {
					return lost
				}
			}
		default:
			return lost
		}
	}
	if t, err := j.d.Token(); err != nil || t != json.Delim('[') {
		return lost
	}
	return nil
}

// object reads the next row, flat.
func (j *jsonRows) object() (jsonRow, error) {
	if j.listed && !j.d.More() {
		return jsonRow{}, io.EOF
	}
	var raw any
	err := j.d.Decode(&raw)
	switch {
	case err == io.EOF:
		return jsonRow{}, io.EOF
	case err != nil && !j.listed:
		if _, ok := errors.AsType[*json.SyntaxError](err); ok || errors.Is(err, io.ErrUnexpectedEOF) {
			return jsonRow{broken: err.Error()}, j.nextLine()
		}
		fallthrough
	case err != nil:
		return jsonRow{}, fmt.Errorf("found no JSON behind row %d: %w", j.n+len(j.ahead), err)
	}
	m, ok := raw.(map[string]any)
	if !ok {
		return jsonRow{}, nil
	}
	out := map[string]string{}
	j.flatten(out, "", m)
	return jsonRow{cells: out}, nil
}

// nextLine goes on behind the line that cannot be read.
func (j *jsonRows) nextLine() error {
	buffered, err := io.ReadAll(j.d.Buffered())
	if err != nil {
		return err
	}
	j.in.back(buffered)
	for text := false; ; {
		b, err := j.in.ReadByte()
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		if b == '\n' && text {
			break
		}
		text = text || !strings.ContainsRune(" \t\r\n", rune(b))
	}
	j.d = json.NewDecoder(j.in)
	j.d.UseNumber()
	return nil
}

// resumed reads again what a decoder had taken and not used, then goes on. However
// often that happens, there is one of it.
type resumed struct {
	again []byte
	in    *bufio.Reader
}

func (r *resumed) back(taken []byte) {
	r.again = append(taken, r.again...)
}

func (r *resumed) Read(p []byte) (int, error) {
	if len(r.again) == 0 {
		return r.in.Read(p)
	}
	n := copy(p, r.again)
	r.again = r.again[n:]
	return n, nil
}

func (r *resumed) ReadByte() (byte, error) {
	if len(r.again) == 0 {
		return r.in.ReadByte()
	}
	b := r.again[0]
	r.again = r.again[1:]
	return b, nil
}

// warning reports which members were left out, because they came too late to be
// columns; blank: none.
func (j *jsonRows) warning() string {
	if len(j.late) == 0 {
		return ""
	}
	slices.Sort(j.late)
	return fmt.Sprintf("these members come in no row before row %d, and are left out: %s; put a row that has them first",
		rowsAhead+1, strings.Join(j.late, ", "))
}

// flatten writes an object's members as cells. Of a list, they are separated by
// blanks: of one of objects, each member by itself.
func (j *jsonRows) flatten(out map[string]string, prefix string, m map[string]any) {
	names := make([]string, 0, len(m))
	for k := range m {
		names = append(names, k)
	}
	slices.Sort(names)
	for _, k := range names {
		name := prefix + k
		switch v := m[k].(type) {
		case map[string]any:
			j.flatten(out, name+"/", v)
			continue
		case []any:
			var parts []string
			for _, x := range v {
				o, ok := x.(map[string]any)
				if !ok {
					parts = append(parts, scalar(x))
					continue
				}
				one := map[string]string{}
				j.flatten(one, name+"/", o)
				for member, cell := range one {
					out[member] = strings.TrimSpace(out[member] + " " + cell)
				}
			}
			if len(parts) == 0 {
				continue
			}
			out[name] = strings.Join(parts, " ")
		default:
			out[name] = scalar(v)
		}
		if len(j.index) == 0 && !slices.Contains(j.order, name) {
			j.order = append(j.order, name)
		}
	}
}

func scalar(v any) string {
	switch x := v.(type) {
	case nil:
		return ""
	case string:
		return x
	case bool:
		return strconv.FormatBool(x)
	case json.Number:
		if s := x.String(); strings.ContainsAny(s, "eE") {
			if f, err := x.Float64(); err == nil {
				return strconv.FormatFloat(f, 'f', -1, 64)
			}
		}
		return x.String()
	}
	return fmt.Sprint(v)
}

// read returns the next row; its number stands for its line.
func (j *jsonRows) read() (cells []string, line int, err error) {
	var row jsonRow
	if len(j.ahead) > 0 {
		row, j.ahead = j.ahead[0], j.ahead[1:]
	} else if row, err = j.object(); err != nil {
		return nil, j.n + 1, err
	}
	j.n++
	if row.broken != "" {
		return nil, j.n, &RowError{Line: j.n, Reason: "found broken JSON (" + row.broken +
			"), expected an object in one line"}
	}
	if row.cells == nil {
		return nil, j.n, &RowError{Line: j.n, Reason: "found no object, expected one with the members of the row"}
	}
	if j.cells == nil {
		j.cells = make([]string, len(j.order))
	}
	clear(j.cells)
	for name, v := range row.cells {
		if i, ok := j.index[name]; ok {
			j.cells[i] = v
		} else if len(j.late) < mostLate && v != "" && !slices.Contains(j.late, name) {
			j.late = append(j.late, name)
		}
	}
	return j.cells, j.n, nil
}
