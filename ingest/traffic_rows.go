package ingest

// Traffic in rows: CSV, and JSON in lines.

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"lucidorchard/core/flow"
)

// foreign makes the cells of a file of another form ours.
type foreign struct {
	form     *Form
	clock    clockTime
	outcomes string // heading of their column
}

func newForeign(f *Form) (*foreign, error) {
	x := &foreign{form: f, clock: clockTime{month: f.Days == monthFirst}, outcomes: f.outcomeHeading()}
	if f.Zone != "" {
		zone, err := time.LoadLocation(f.Zone)
		if err != nil {
			return nil, err
		}
		x.clock.zone = zone
	}
	return x, nil
}

// plain reports whether a form is our own: nothing has to be read more freely.
func (f *Form) plain() bool {
	return f.Pointer == "" && f.Zone == "" && f.Days == "" && len(f.Outcomes) == 0 && len(f.Protocols) == 0 &&
		(f.Delimiter == "" || f.Delimiter == ",") && f.Header < 2 && (f.Encoding == "" || f.Encoding == UTF8)
}

func (x *foreign) cell(column, cell string) string {
	cell = strings.TrimSpace(cell)
	switch column {
	case "start", "end":
		return x.clock.read(cell)
	case "outcome":
		as := x.form.Outcomes[cell]
		if as == "" && cell != "" {
			as = GuessOutcomeIn(x.outcomes, cell)
		}
		if as == "unknown" {
			return ""
		}
		if as != "" {
			return as
		}
	case "proto":
		if as := x.form.Protocols[cell]; as != "" {
			return as
		}
		if as := guessProtocol(cell); as != "" {
			return as
		}
	case "bytes", "packets", "connections", "sport", "dport":
		return plainNumber(cell)
	}
	return cell
}

// rows reads a CSV.
func (t *TrafficFile) rows(in io.Reader, o TrafficOptions, tell func() error) error {
	f, err := readFlows(in, &o.Form)
	if err != nil {
		return err
	}
	defer func() { t.Warnings = append(t.Warnings, f.Warnings...) }()
	take := t.taking(o)
	defer take.close()
	for {
		r, err := f.Next()
		if err == io.EOF {
			return nil
		}
		t.Rows = f.Row()
		var bad *RowError
		switch {
		case errors.As(err, &bad):
			t.bad(*bad)
			continue
		case err != nil:
			return err
		}
		if column, reason := unlikely(&r); reason != "" {
			t.bad(RowError{f.line, column, reason})
			continue
		}
		if !t.ask(&r, f.line, o.Accept) {
			take.record(r)
			if rest := f.Rest(); rest != nil {
				take.record(*rest)
			}
		}
		if err := tell(); err != nil {
			return err
		}
	}
}

// flowJSON is a conversation, or one direction of it, as a line of JSON: the
// columns of the CSV.
type flowJSON struct {
	Start       string      `json:"start"`
	End         string      `json:"end"`
	Src         string      `json:"src"`
	Dst         string      `json:"dst"`
	Proto       any         `json:"proto"`
	Dport       json.Number `json:"dport"`
	Sport       json.Number `json:"sport"`
	Bytes       json.Number `json:"bytes"`
	Packets     json.Number `json:"packets"`
	Connections json.Number `json:"connections"`
	Outcome     string      `json:"outcome"`
	Observer    string      `json:"observer"`
}

func (j *flowJSON) cells() []string {
	proto := ""
	switch x := j.Proto.(type) {
	case string:
		proto = x
	case float64:
		proto = strconv.FormatFloat(x, 'f', -1, 64)
	}
	return []string{j.Start, j.Src, j.Dst, proto, j.Dport.String(), j.End, j.Sport.String(), j.Bytes.String(),
		j.Packets.String(), j.Connections.String(), j.Outcome, j.Observer}
}

const longestLine = 1 << 20

// lines reads JSON Lines.
func (t *TrafficFile) lines(in io.Reader, o TrafficOptions, tell func() error) error {
	take := t.taking(o)
	defer take.close()
	f := &Flows{}
	scan := bufio.NewScanner(in)
	scan.Buffer(make([]byte, 1<<16), longestLine)
	line := 0
	for scan.Scan() {
		line++
		text := bytes.TrimSpace(bytes.TrimPrefix(scan.Bytes(), []byte("\ufeff")))
		if len(text) == 0 {
			continue
		}
		t.Rows++
		var j flowJSON
		if err := json.Unmarshal(text, &j); err != nil {
			t.bad(RowError{Line: line, Reason: "found no JSON object with the members of a flow: " + err.Error()})
			continue
		}
		var r flow.Record
		var reason string
		for i, cell := range j.cells() {
			if reason = f.cell(&r, i, cell); reason != "" {
				t.bad(RowError{line, flowColumns[i], reason})
				break
			}
		}
		if reason == "" {
			var column string
			if column, reason = unlikely(&r); reason != "" {
				t.bad(RowError{line, column, reason})
			} else if !t.ask(&r, line, o.Accept) {
				take.record(r)
			}
		}
		if err := tell(); err != nil {
			return err
		}
	}
	if err := scan.Err(); errors.Is(err, bufio.ErrTooLong) {
		return fmt.Errorf("line %d is longer than %d octets", line+1, longestLine)
	} else if err != nil {
		return err
	}
	return nil
}
