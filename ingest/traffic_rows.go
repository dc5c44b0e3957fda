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

// GuessFlows maps headings of a file of flows by what they are usually called.
func GuessFlows(headings []string) Mapping {
	m, _ := guess(headings, flowColumns, usualFlows, "")
	return m
}

// FlowColumns are what a heading of a file of flows can be read as.
func FlowColumns() []string { return append([]string(nil), flowColumns...) }

var usualFlows = map[string][]string{
	"start": {"start", "start time", "starttime", "first", "first seen", "flow start", "begin", "time",
		"timestamp", "date", "ts"},
	"end": {"end", "end time", "endtime", "last", "last seen", "flow end"},
	"src": {"src", "source", "src ip", "srcip", "source ip", "source address", "src addr", "srcaddr",
		"src address", "client", "client ip", "from"},
	"dst": {"dst", "destination", "dst ip", "dstip", "destination ip", "destination address", "dst addr",
		"dstaddr", "dst address", "server", "server ip", "to", "dest", "dest ip"},
	"proto": {"proto", "protocol", "ip protocol", "transport"},
	"dport": {"dport", "dst port", "dstport", "destination port", "dest port", "server port", "port",
		"service port"},
	"sport":       {"sport", "src port", "srcport", "source port", "client port"},
	"bytes":       {"bytes", "octets", "total bytes", "byte count", "size"},
	"packets":     {"packets", "pkts", "packet count"},
	"connections": {"connections", "flows", "count", "sessions", "hits"},
	"outcome":     {"outcome", "action", "result", "disposition", "verdict", "status"},
	"observer":    {"observer", "exporter", "sensor", "device", "reporter", "firewall"},
}

// plainCell makes a cell of a foreign file one of ours: other times, other words
// for what was carried or dropped.
func plainCell(column, cell string) string {
	cell = strings.TrimSpace(cell)
	switch column {
	case "start", "end":
		return plainTime(cell)
	case "outcome":
		switch strings.ToLower(cell) {
		case "accept", "accepted", "allow", "allowed", "pass", "passed", "forward", "forwarded", "permit",
			"permitted", "ok", "success", "established", "closed":
			return "carried"
		case "deny", "denied", "drop", "block", "blocked", "reject", "rejected", "discard", "discarded":
			return "dropped"
		case "carried", "dropped":
			return strings.ToLower(cell)
		case "unknown", "-":
			return ""
		}
	case "bytes", "packets", "connections", "sport", "dport":
		if cell == "-" {
			return ""
		}
	}
	return cell
}

// plainTime reads times without a zone as UTC, and numbers as seconds,
// milliseconds or microseconds since 1970, by their size.
func plainTime(cell string) string {
	for _, layout := range []string{"2006-01-02 15:04:05.999999999", "2006-01-02T15:04:05.999999999",
		"2006-01-02 15:04:05.999999999Z07:00", "2006/01/02 15:04:05.999999999"} {
		if at, err := time.Parse(layout, cell); err == nil {
			return at.UTC().Format(time.RFC3339Nano)
		}
	}
	if n, err := strconv.ParseFloat(cell, 64); err == nil && n > 1e8 && n < 1e17 {
		for n >= 1e11 {
			n /= 1000
		}
		return time.UnixMicro(int64(n * 1e6)).UTC().Format(time.RFC3339Nano)
	}
	return cell
}

// rows reads a CSV.
func (t *TrafficFile) rows(in io.Reader, o TrafficOptions, tell func() error) error {
	f, err := mappedFlows(in, o.Mapping)
	if err != nil {
		return err
	}
	t.Warnings = append(t.Warnings, f.Warnings...)
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
		take.record(r)
		if err := tell(); err != nil {
			return err
		}
	}
}

// FlowJSON is a conversation, or one direction of it, as a line of JSON: the
// columns of the CSV.
type FlowJSON struct {
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

func (j *FlowJSON) cells() []string {
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
		var j FlowJSON
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
			} else {
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
