package ingest

// What people are asked about a file: its words, and rows that can hardly be
// meant.

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

// WordUse is a word of a file for an outcome or a protocol.
type WordUse struct {
	Column string `json:"column" enum:"outcome,proto"`
	Word   string `json:"word"`
	Rows   int    `json:"rows" doc:"Of the first rows, those that have it"`
	As     string `json:"as" doc:"What it is read as; blank: nobody knows"`
	Usual  bool   `json:"usual" doc:"It was guessed, not chosen"`
}

// mostWords is of words that are shown.
const mostWords = 40

// Words returns the words of the columns that are read as outcome and protocol, the
// most used first.
func (l *Look) Words() []WordUse {
	out := []WordUse{}
	for _, column := range []string{"outcome", "proto"} {
		at := slices.IndexFunc(l.Headings, func(h string) bool { return l.Form.Columns[h] == column })
		if at < 0 {
			continue
		}
		counts := map[string]int{}
		for _, row := range l.Sample {
			if word := strings.TrimSpace(row[at]); word != "" {
				counts[word]++
			}
		}
		var some []WordUse
		for word, n := range counts {
			u := WordUse{Column: column, Word: word, Rows: n, Usual: true}
			said, guess := l.Form.Outcomes, func(word string) string { return GuessOutcomeIn(l.Headings[at], word) }
			if column == "proto" {
				said, guess = l.Form.Protocols, guessProtocol
			}
			if u.As = said[word]; u.As != "" {
				u.Usual = false
			} else {
				u.As = guess(word)
			}
			some = append(some, u)
		}
		slices.SortFunc(some, func(a, b WordUse) int {
			return cmp.Or(b.Rows-a.Rows,
				strings.Compare(a.Word, b.Word))
		})
		out = append(out, some[:min(mostWords, len(some))]...)
	}
	return out
}

// GuessDays sets whether days or months stand first, where times tell.
func (l *Look) GuessDays() {
	if l.Form.Days != "" {
		return
	}
	for i, h := range l.Headings {
		if to := l.Form.Columns[h]; to == "start" || to == "end" || to == "from" || to == "until" {
			var times []string
			for _, row := range l.Sample {
				times = append(times, row[i])
			}
			if l.Form.Days = guessDays(times); l.Form.Days != "" {
				return
			}
		}
	}
}

// BadKind is one thing that is wrong with many rows.
type BadKind struct {
	Column string `json:"column,omitempty"`
	Reason string `json:"reason" doc:"Of the first of them"`
	Rows   int    `json:"rows"`
	Lines  []int  `json:"lines" doc:"The first of them"`
}

// badKinds gathers what is wrong by what it is.
type badKinds struct {
	index map[string]int
	all   []BadKind
}

var (
	quoted   = regexp.MustCompile(`"(?:[^"\\]|\\.)*"`)
	numbered = regexp.MustCompile(`\d+`)
)

const mostKinds, linesOfKind = 50, 5

func (k *badKinds) add(e RowError) {
	key := e.Column + ":" + numbered.ReplaceAllString(quoted.ReplaceAllString(e.Reason, `"…"`), "0")
	i, ok := k.index[key]
	if !ok {
		if k.index == nil {
			k.index = map[string]int{}
		}
		if i = len(k.all); i == mostKinds {
			return
		}
		k.index[key] = i
		k.all = append(k.all, BadKind{Column: e.Column, Reason: e.Reason})
	}
	b := &k.all[i]
	if b.Rows++; len(b.Lines) < linesOfKind {
		b.Lines = append(b.Lines, e.Line)
	}
}

// list returns the kinds, those of most rows first.
func (k *badKinds) list() []BadKind {
	out := append([]BadKind{}, k.all...)
	slices.SortStableFunc(out, func(a, b BadKind) int { return b.Rows - a.Rows })
	return out
}

// KindsOf gathers what is wrong with rows by what it is.
func KindsOf(errs []RowError) []BadKind {
	var k badKinds
	for _, e := range errs {
		k.add(e)
	}
	return k.list()
}

// Question is asked about rows that can be read, and can hardly be meant. Until
// somebody says yes, they are left out.
type Question struct {
	Kind  string `json:"kind" enum:"port,time"`
	Words string `json:"words"`
	Rows  int    `json:"rows"`
	Lines []int  `json:"lines" doc:"The first of them"`
}

// asks returns the kind of question that a record raises; blank: none.
func (t *TrafficFile) asks(r *flow.Record) string {
	switch {
	case r.Start.Before(t.soonest) || t.latest.Before(r.Start):
		return "time"
	case service.HasPorts(r.Point.Proto()) && !service.IsICMP(r.Point.Proto()) && r.Point.Port() == 0:
		return "port"
	}
	return ""
}

// ask notes a question about a row, and says whether the row is left out.
func (t *TrafficFile) ask(r *flow.Record, line int, accept []string) (leftOut bool) {
	kind := t.asks(r)
	if kind == "" {
		return false
	}
	i := slices.IndexFunc(t.Questions, func(q Question) bool { return q.Kind == kind })
	if i < 0 {
		i = len(t.Questions)
		words := "have a protocol with ports and none: they would be stored as port 0, which no rule opens"
		if kind == "time" {
			words = fmt.Sprintf("have a time far off, the first of them %s: is it written in another way, or was a "+
				"clock wrong?", r.Start.Time().Format("2006-01-02"))
		}
		t.Questions = append(t.Questions, Question{Kind: kind, Words: words, Lines: []int{}})
	}
	q := &t.Questions[i]
	if q.Rows++; len(q.Lines) < linesOfKind {
		q.Lines = append(q.Lines, line)
	}
	if slices.Contains(accept, kind) {
		return false
	}
	t.Held++
	return true
}

// near is the span of times that nobody has to be asked about.
func near(now time.Time) (from, to estate.Instant) {
	return estate.InstantOf(now.AddDate(-5, 0, 0)), estate.InstantOf(now.AddDate(0, 0, 2))
}

// OwnFlows reports whether all headings are our own.
func OwnFlows(headings []string) bool {
	return !slices.ContainsFunc(headings, func(h string) bool { return !slices.Contains(flowColumns, h) })
}

// OwnWorkloads reports whether all members of JSON are those that scripts write.
func OwnWorkloads(headings []string) bool {
	return !slices.ContainsFunc(headings, func(h string) bool {
		name, _, _ := strings.Cut(h, "/")
		return !slices.Contains([]string{"id", "name", "os", "kind", "addresses", "leases", "tags"}, name)
	})
}

// conversationsHeader is the beginning of the conversations that the product
// exports.
const conversationsHeader = "client,client_address,server,server_address,service,"

// ExportForm returns the form of a file that the product has exported, where it is
// not the CSV that it takes anyway: by its first octets; nil: it is none.
func ExportForm(head []byte, kind string) *Form {
	text := strings.TrimPrefix(string(head), "\ufeff")
	switch {
	case kind == "flows" && strings.HasPrefix(text, conversationsHeader):
		line, _, _ := strings.Cut(text, "\n")
		columns := Mapping{}
		for _, h := range strings.Split(strings.TrimSpace(line), ",") {
			columns[h] = exportedColumns[h]
		}
		return &Form{Delimiter: ",", Header: 1, Encoding: UTF8, Columns: columns}
	case kind == "flows" && strings.HasPrefix(text, `{"client":{"addr":`):
		return &Form{Pointer: aLineEach, Encoding: UTF8, Columns: exportedLines}
	}
	return nil
}

var exportedColumns = Mapping{"client_address": "src", "server_address": "dst", "service": "service",
	"first": "start",
	"last":  "end", "connections": "connections", "bytes": "bytes", "dropped": "dropped"}

// exportedLines are the members of conversations as JSON Lines.
var exportedLines = Mapping{"client/addr": "src", "server/addr": "dst", "service": "service", "first": "start",
	"last": "end", "connections": "connections", "bytes": "bytes", "dropped": "dropped"}

// Only returns what the form says of headings, and nothing of others.
func (f *Form) Only(headings []string) Mapping {
	out := Mapping{}
	for _, h := range headings {
		out[h] = f.Columns[h]
	}
	return out
}
