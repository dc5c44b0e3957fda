package main

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/plural"
	"lucidorchard/core/policy"
	"lucidorchard/core/syntax"
	"lucidorchard/ingest"
)

// mostPrinted bounds how many row errors of one file are printed.
const mostPrinted = 50

// inputs are the files that a command reads; "-" is standard input, for one.
type inputs struct {
	workloads, policy, flows, asOf string
}

func (in *inputs) check() error {
	n := 0
	for _, f := range []string{in.workloads, in.policy, in.flows} {
		if f == "-" {
			n++
		}
	}
	if n > 1 {
		return unusable("found - for %d inputs, expected standard input for one at most", n)
	}
	return nil
}

func (in *inputs) instant() (estate.Instant, error) {
	if in.asOf == "" {
		return estate.InstantOf(time.Now()), nil
	}
	t, err := estate.ParseInstant(in.asOf)
	if err != nil {
		return t, unusable("--as-of: %s", err)
	}
	return t, nil
}

func open(name string) (io.ReadCloser, error) {
	f := os.Stdin
	if name != "-" {
		var err error
		if f, err = os.Open(name); err != nil {
			return nil, unusable("%s", err)
		}
	}
	plain, err := ingest.Unpacked(f)
	if err != nil {
		f.Close()
		return nil, unusable("%s: %s", name, err)
	}
	return struct {
		io.Reader
		io.Closer
	}{plain, f}, nil
}

// readPolicy reads a policy text and prints its errors.
func readPolicy(name string) (string, *policy.Policy, error) {
	text, err := readText(name)
	if err != nil {
		return "", nil, err
	}
	p, errs := policy.Parse(text)
	return text, p, policyErrors(name, errs)
}

func readText(name string) (string, error) {
	f, err := open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	text, err := io.ReadAll(f)
	if err != nil {
		return "", unusable("%s: %s", name, err)
	}
	return string(text), nil
}

func readWorkloads(name string) (*estate.Estate, error) {
	f, err := open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	form, in, err := formOf(name, f, "workloads")
	if err != nil {
		return nil, err
	}
	var file *ingest.WorkloadFile
	if form != nil {
		file, err = ingest.WorkloadsOf(in, filepath.Base(name), *form)
	} else {
		file, err = ingest.Workloads(in, filepath.Base(name))
	}
	if err != nil {
		return nil, unusable("%s:%s", name, err)
	}
	for _, w := range file.Warnings {
		fmt.Fprintf(os.Stderr, "%s: warning: %s\n", name, w)
	}
	for i, e := range file.Errors {
		if i == mostPrinted {
			fmt.Fprintf(os.Stderr, "%s: and %d more\n", name, len(file.Errors)-i)
			break
		}
		fmt.Fprintf(os.Stderr, "%s:%s\n", name, e)
	}
	if n := len(file.Errors); n > 0 {
		return nil, unusable("%s: %s", name, plural.Of(n, "row cannot be used", "rows cannot be used"))
	}
	e, _ := estate.New(file.Workloads)
	return e, nil
}

// eachFlow reads the flows file and calls f for each data row; bad is set for
// a row that cannot be read. Such rows are counted, and the first ones printed.
func eachFlow(name string, f func(row int, r flow.Record, bad *ingest.RowError) error) (bad int, err error) {
	in, err := open(name)
	if err != nil {
		return 0, err
	}
	defer in.Close()
	form, text, err := formOf(name, in, "flows")
	if err != nil {
		return 0, err
	}
	head := bufio.NewReaderSize(text, ingest.Looked)
	begin, _ := head.Peek(64)
	if text = head; ingest.FormatOf(begin) != ingest.TrafficCSV {
		return otherFlows(name, head, form, f)
	}
	if form == nil && guesses {
		form = guessed(head)
	}
	var r *ingest.Flows
	if form != nil {
		r, err = ingest.FlowsOf(text, *form)
	} else {
		r, err = ingest.NewFlows(text)
	}
	if err != nil {
		return 0, unusable("%s:%s", name, err)
	}
	progress := newProgress("flows")
	defer progress.end()
	full, free, done := make(chan *flowRows, 4), make(chan *flowRows, 4), make(chan struct{})
	defer close(done)
	for range cap(free) {
		free <- new(flowRows)
	}
	go readAhead(r, full, free, done)
	for rows := range full {
		for i := range rows.records {
			if e := rows.bad[i]; e != nil {
				if bad++; bad <= mostPrinted {
					fmt.Fprintf(os.Stderr, "%s:%s\n", name, e)
				}
			}
			if err := f(rows.numbers[i], rows.records[i], rows.bad[i]); err != nil {
				return bad, err
			}
			progress.step()
		}
		if rows.err != nil {
			return bad, unusable("%s: %s", name, rows.err)
		}
		free <- rows
	}
	for _, w := range r.Warnings {
		fmt.Fprintf(os.Stderr, "%s: warning: %s\n", name, w)
	}
	return bad, nil
}

// otherFlows is eachFlow of a file that is no table of text: its rows are the conversations
// that it comes to, in their order; what cannot be read of it has none.
func otherFlows(name string, in *bufio.Reader, form *ingest.Form, f func(row int, r flow.Record,
	bad *ingest.RowError) error) (bad int, err error) {
	progress := newProgress("flows")
	defer progress.end()
	n := 0
	o := ingest.TrafficOptions{Name: filepath.Base(name), Accept: []string{"port", "time"},
		Emit: func(j *flow.Joined) error {
			n++
			progress.step()
			return f(n, j.Record, nil)
		}}
	if form == nil {
		head, _ := in.Peek(64)
		if of := ingest.FormatOf(head); of == ingest.TrafficJSON || of == ingest.TrafficLines {
			form = guessed(in)
		}
	}
	if form != nil {
		o.Form = *form
	}
	file, err := ingest.ReadTraffic(in, 0, o)
	if err != nil {
		return 0, unusable("%s: %s", name, err)
	}
	for i, e := range file.Errors {
		if i < mostPrinted {
			fmt.Fprintf(os.Stderr, "%s:%s\n", name, e)
		}
	}
	for _, w := range file.Warnings {
		fmt.Fprintf(os.Stderr, "%s: warning: %s\n", name, w)
	}
	return file.Bad, nil
}

// guessed finds how a file of flows is written that is not ours, as far as it can be guessed
// what flows need; nil: it is ours, or it cannot be.
func guessed(in *bufio.Reader) *ingest.Form {
	head, err := in.Peek(ingest.Looked)
	look, bad := ingest.LookAt(head, errors.Is(err, io.EOF), ingest.Form{}, 0)
	if bad != nil {
		return nil
	}
	ours := slices.Contains(look.Headings, "start") && slices.Contains(look.Headings, "src")
	if look.JSON { // of ours, objects one after the other are read as they are
		ours = look.Form.Pointer == "-" && ingest.OwnFlows(look.Headings)
	}
	if ours {
		return nil
	}
	look.Form.Columns = ingest.GuessFlows(look.Headings)
	found := make([]string, 0, len(look.Headings))
	for _, to := range look.Form.Columns {
		found = append(found, to)
	}
	for _, need := range []string{"start", "src", "dst", "proto"} {
		if !slices.Contains(found, need) {
			return nil
		}
	}
	look.GuessDays()
	return &look.Form
}

// flowRows is some rows of a flows file, one after the other.
type flowRows struct {
	numbers []int // of the row in the file; two records may be of one
	records []flow.Record
	bad     []*ingest.RowError // of the row at the same place, or nil
	err     error              // why the file ends behind them, if not because it is over
}

func (rows *flowRows) add(number int, r flow.Record, bad *ingest.RowError) {
	rows.numbers, rows.records, rows.bad = append(rows.numbers, number), append(rows.records, r), append(rows.bad, bad)
}

const flowsAhead = 1024

// readAhead reads rows while others are looked at.
func readAhead(r *ingest.Flows, full chan<- *flowRows, free <-chan *flowRows, done <-chan struct{}) {
	defer close(full)
	for {
		var rows *flowRows
		select {
		case rows = <-free:
		case <-done:
			return
		}
		rows.numbers, rows.records, rows.bad = rows.numbers[:0], rows.records[:0], rows.bad[:0]
		over := false
		for len(rows.records) < flowsAhead {
			record, err := r.Next()
			var bad *ingest.RowError
			if err != nil && !errors.As(err, &bad) {
				if over = true; err != io.EOF {
					rows.err = err
				}
				break
			}
			rows.add(r.Row(), record, bad)
			if rest := r.Rest(); rest != nil {
				rows.add(r.Row(), *rest, nil)
			}
		}
		full <- rows
		if over {
			return
		}
	}
}

// output is a file that appears whole or not at all; "" and "-" are standard
// output. Something that is there and no regular file is written to directly.
type output struct {
	*bufio.Writer
	file *os.File
	name string // to rename to; empty if nothing is to be renamed
}

func create(name string) (*output, error) {
	if name == "" || name == "-" {
		return &output{bufio.NewWriterSize(os.Stdout, 1<<16), nil, ""}, nil
	}
	var f *os.File
	var err error
	target := ""
	if info, statErr := os.Stat(name); statErr == nil && !info.Mode().IsRegular() {
		f, err = os.OpenFile(name, os.O_WRONLY, 0)
	} else {
		target = name
		f, err = os.CreateTemp(filepath.Dir(name), "."+filepath.Base(name)+".*")
	}
	if err != nil {
		return nil, unusable("%s", err)
	}
	return &output{bufio.NewWriterSize(f, 1<<16), f, target}, nil
}

// commit finishes the file.
func (o *output) commit() error {
	if err := o.Flush(); err != nil {
		return unusable("%s", err)
	}
	if o.file == nil {
		return nil
	}
	if o.name != "" {
		_ = o.file.Chmod(0o644)
	}
	if err := o.file.Close(); err != nil {
		return unusable("%s", err)
	}
	if o.name != "" {
		if err := os.Rename(o.file.Name(), o.name); err != nil {
			return unusable("%s", err)
		}
	}
	o.file = nil
	return nil
}

// drop removes what was written, unless it was committed.
func (o *output) drop() {
	if o.file != nil {
		o.file.Close()
		if o.name != "" {
			os.Remove(o.file.Name())
		}
	}
}

// writeAll writes one text as an output.
func writeAll(name, text string) error {
	o, err := create(name)
	if err != nil {
		return err
	}
	defer o.drop()
	if _, err := o.WriteString(text); err != nil {
		return unusable("%s", err)
	}
	return o.commit()
}

// progress counts on standard error when that is a terminal.
type progress struct {
	what string
	on   bool
	n    int
}

func newProgress(what string) *progress {
	info, err := os.Stderr.Stat()
	return &progress{what: what, on: err == nil && info.Mode()&os.ModeCharDevice != 0}
}

func (p *progress) step() {
	if p.n++; p.on && p.n%50_000 == 0 {
		fmt.Fprintf(os.Stderr, "\r%d %s", p.n, p.what)
	}
}

func (p *progress) end() {
	if p.on && p.n >= 50_000 {
		fmt.Fprintf(os.Stderr, "\r%d %s\n", p.n, p.what)
	}
}

// policyErrors prints the errors of a policy text.
func policyErrors(name string, errs []*syntax.Error) error {
	if len(errs) == 0 {
		return nil
	}
	for i, e := range errs {
		if i == policy.MaxErrors {
			break
		}
		fmt.Fprintf(os.Stderr, "%s:%s\n", name, e)
	}
	more := ""
	if n := len(errs) - policy.MaxErrors; n > 0 {
		more = fmt.Sprintf("; the first %d are printed", policy.MaxErrors)
	}
	return unusable("%s: %s%s", name, plural.Of(len(errs), "error", "errors"), more)
}
