package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"lucidorchard/ingest"
)

// maps are the files that --map names: forms of files that are not ours.
var maps []string

// guesses is whether --guess was given.
var guesses bool

// mapped adds --map and --guess to a command that reads files.
func mapped(cmd *cobra.Command) {
	cmd.Flags().StringArrayVar(&maps, "map", nil,
		"mapping of a foreign file of workloads or flows, as saved in the import dialog; once for each kind")
	cmd.Flags().BoolVar(&guesses, "guess", false,
		"guess the columns of a foreign table of flows, as the interface does")
}

// formOf finds how a file is written: as --map says, or as what the program itself
// exports; nil: as our own CSV. It returns the file back from its beginning.
func formOf(name string, in io.Reader, kind string) (*ingest.Form, io.Reader, error) {
	said, err := saidForm(kind)
	if err != nil {
		return nil, nil, err
	}
	b := bufio.NewReaderSize(in, ingest.Looked)
	if said == nil {
		head, _ := b.Peek(4096)
		if form := ingest.ExportForm(head, kind); form != nil {
			return form, b, nil
		}
		return nil, b, nil
	}
	head, err := b.Peek(ingest.Looked)
	look, bad := ingest.LookAt(head, errors.Is(err, io.EOF), *said, 0)
	if bad != nil {
		return nil, nil, unusable("%s:%s", name, bad)
	}
	guess := ingest.GuessFlows
	if kind == "workloads" {
		guess = ingest.Guess
	}
	columns := guess(look.Headings)
	for h, to := range said.Columns {
		columns[h] = to
	}
	look.Form.Columns = columns
	look.GuessDays()
	return &look.Form, b, nil
}

// saidForm reads the file of --map that is of a kind; nil: there is none.
func saidForm(kind string) (*ingest.Form, error) {
	for _, name := range maps {
		text, err := readText(name)
		if err != nil {
			return nil, err
		}
		var f ingest.Form
		d := json.NewDecoder(bytes.NewReader([]byte(text)))
		d.DisallowUnknownFields()
		if err := d.Decode(&f); err != nil {
			return nil, unusable("%s: found no form of a file: %s", name, strings.TrimPrefix(err.Error(), "json: "))
		}
		if f.Kind != "workloads" && f.Kind != "flows" {
			return nil, unusable(`%s: kind: found %q, expected "workloads" or "flows"`, name, f.Kind)
		}
		if err := f.Check(); err != nil {
			return nil, unusable("%s: %s", name, err)
		}
		if f.Kind == kind {
			return &f, nil
		}
	}
	return nil, nil
}
