package main

import (
	"encoding/json"
	"strconv"

	"github.com/spf13/cobra"

	"lucidorchard/core/decide"
	"lucidorchard/core/flow"
	"lucidorchard/ingest"
)

func checkCommand() *cobra.Command {
	var in inputs
	var out, summary string
	cmd := &cobra.Command{
		Use:   "check --workloads F --policy F --flows F [--as-of TIME] [--out F] [--summary F]",
		Short: "Say of each flow what the policy would do with it, and which rule decides",
		Args:  cobra.NoArgs,
		RunE:  func(*cobra.Command, []string) error { return check(in, out, summary) },
	}
	cmd.Flags().StringVar(&in.workloads, "workloads", "", "workloads, CSV")
	cmd.Flags().StringVar(&in.policy, "policy", "", "policy text")
	cmd.Flags().StringVar(&in.flows, "flows", "", "flows, CSV")
	cmd.Flags().StringVar(&in.asOf, "as-of", "", "instant to compare until with, RFC 3339 (default now)")
	cmd.Flags().StringVar(&out, "out", "", "verdicts, CSV (default standard output)")
	cmd.Flags().StringVar(&summary, "summary", "", "totals, JSON")
	needs(cmd, "workloads", "policy", "flows")
	return cmd
}

func needs(cmd *cobra.Command, names ...string) {
	for _, n := range names {
		if err := cmd.MarkFlagRequired(n); err != nil {
			panic(err)
		}
	}
}

// checkSummary is the JSON of check --summary.
type checkSummary struct {
	Rows      int            `json:"rows"`
	Permit    int            `json:"permit"`
	Reject    int            `json:"reject"`
	Uncovered int            `json:"uncovered"`
	Error     int            `json:"error"`
	Rules     map[string]int `json:"rules"`
}

func check(in inputs, out, summary string) error {
	c, err := compile(in)
	if err != nil {
		return err
	}
	w, err := create(out)
	if err != nil {
		return err
	}
	defer w.drop()
	var totals checkSummary
	var verdicts [3]int
	hits := make([]int, len(c.Policy.Rules))
	var line []byte
	if _, err := w.WriteString("row,verdict,rule\n"); err != nil {
		return unusable("%s", err)
	}
	totals.Error, err = eachFlow(in.flows, func(row int, r flow.Record, bad *ingest.RowError) error {
		totals.Rows = row
		line = append(strconv.AppendInt(line[:0], int64(row), 10), ',')
		if bad != nil {
			line = append(line, "error,"...)
		} else if i := c.Rule(c.At(r.Client, r.Start), c.At(r.Server, r.Start), r.Point); i >= 0 {
			rule := c.Policy.Rules[i]
			v := decide.VerdictOf(rule)
			hits[i]++
			verdicts[v]++
			line = append(append(line, v.String()...), ',')
			line = strconv.AppendInt(line, int64(rule.Line), 10)
		} else {
			verdicts[decide.Uncovered]++
			line = append(line, "uncovered,"...)
		}
		if _, err := w.Write(append(line, '\n')); err != nil {
			return unusable("%s", err)
		}
		return nil
	})
	if err != nil {
		return err
	}
	if err := w.commit(); err != nil {
		return err
	}
	if summary == "" {
		return nil
	}
	totals.Permit, totals.Reject, totals.Uncovered = verdicts[decide.Permit], verdicts[decide.Reject], verdicts[decide.Uncovered]
	totals.Rules = map[string]int{}
	for i, n := range hits {
		if n > 0 {
			totals.Rules[strconv.Itoa(c.Policy.Rules[i].Line)] = n
		}
	}
	return writeJSON(summary, totals)
}

// compile reads the workloads and the policy. Both are read before either's
// errors end the command, so that all are printed at once.
func compile(in inputs) (*decide.Compiled, error) {
	c, _, err := compileText(in)
	return c, err
}

// compileText is compile and gives the policy's text too.
func compileText(in inputs) (*decide.Compiled, string, error) {
	if err := in.check(); err != nil {
		return nil, "", err
	}
	asOf, err := in.instant()
	if err != nil {
		return nil, "", err
	}
	text, p, errPolicy := readPolicy(in.policy)
	e, err := readWorkloads(in.workloads)
	if errPolicy != nil {
		return nil, "", errPolicy
	}
	if err != nil {
		return nil, "", err
	}
	return decide.Compile(e, p, asOf), text, nil
}

func writeJSON(name string, v any) error {
	text, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return unusable("%s", err)
	}
	return writeAll(name, string(text)+"\n")
}
