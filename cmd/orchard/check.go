package main

import (
	"encoding/json"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"lucidorchard/core/decide"
	"lucidorchard/core/flow"
	"lucidorchard/ingest"
)

func checkCommand() *cobra.Command {
	var in inputs
	var o checkOptions
	cmd := &cobra.Command{
		Use: "check --workloads F --policy F --flows F [--as-of TIME] [--out F] [--summary F] [--against F] " +
			"[--changes F] [--fail-on CONDITION]",
		Short: "Decide each flow with a policy, and name the deciding rule",
		Args:  cobra.NoArgs,
		RunE:  func(*cobra.Command, []string) error { return check(in, o) },
	}
	cmd.Flags().StringVar(&in.workloads, "workloads", "", "workloads, CSV")
	cmd.Flags().StringVar(&in.policy, "policy", "", "policy text")
	cmd.Flags().StringVar(&in.flows, "flows", "", "flows, CSV")
	cmd.Flags().StringVar(&in.asOf, "as-of", "", "instant at which expired rules are off, RFC 3339 (default now)")
	cmd.Flags().StringVar(&o.out, "out", "", "verdicts, CSV (default standard output)")
	cmd.Flags().StringVar(&o.summary, "summary", "", "totals, JSON")
	cmd.Flags().StringVar(&o.against, "against", "", "another policy to compare with, usually the previous one")
	cmd.Flags().StringVar(&o.changes, "changes", "", "with --against: rows whose verdict differs, CSV")
	cmd.Flags().StringArrayVar(&o.failOn, "fail-on", nil,
		"with --against: end with status 1 if this holds, such as \"newly-rejected>0\"; may be given several "+
			"times; measures: "+strings.Join(measureNames, ", "))
	mapped(cmd)
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
	Rows      int                `json:"rows"`
	Permit    int                `json:"permit"`
	Reject    int                `json:"reject"`
	Uncovered int                `json:"uncovered"`
	Error     int                `json:"error"`
	Rules     map[string]int     `json:"rules"`
	Against   *comparisonSummary `json:"against,omitempty"`
}

// checkOptions is what check is asked for beside its inputs.
type checkOptions struct {
	out, summary, against, changes string
	failOn                         []string
}

func check(in inputs, o checkOptions) error {
	if o.against == "" && (o.changes != "" || len(o.failOn) > 0) {
		return unusable("--changes and --fail-on compare two policies: say with --against which the other one is")
	}
	conditions, err := parseConditions(o.failOn)
	if err != nil {
		return err
	}
	c, err := compile(in)
	if err != nil {
		return err
	}
	var compared *comparison
	var changes *output
	if o.against != "" {
		if compared, err = against(o.against, c); err != nil {
			return err
		}
		if o.changes != "" {
			if changes, err = create(o.changes); err != nil {
				return err
			}
			defer changes.drop()
			if _, err := changes.WriteString("row,before,after,rule_before,rule_after\n"); err != nil {
				return unusable("%s", err)
			}
		}
	}
	w, err := create(o.out)
	if err != nil {
		return err
	}
	defer w.drop()
	t := tally{compiled: c, compared: compared, changes: changes, hits: make([]int, len(c.Policy.Rules))}
	if err := t.write(in, w); err != nil {
		return err
	}
	if err := w.commit(); err != nil {
		return err
	}
	failed := false
	if compared != nil {
		if changes != nil {
			if err := changes.commit(); err != nil {
				return err
			}
		}
		var said comparisonSummary
		said, failed = compared.report(conditions)
		t.totals.Against = &said
	}
	if o.summary != "" {
		if err := writeTotals(o.summary, &t.totals, t.verdicts, t.hits, c); err != nil {
			return err
		}
	}
	if failed {
		return exit{1, "a condition of --fail-on holds"}
	}
	return nil
}

// tally counts verdicts while they are written.
type tally struct {
	compiled *decide.Compiled
	compared *comparison // nil: with nothing
	changes  *output     // where changes are written; nil: nowhere
	totals   checkSummary
	verdicts [3]int
	hits     []int // by rule
}

// write decides each flow and writes its verdict as a line.
func (t *tally) write(in inputs, w *output) (err error) {
	c := t.compiled
	var line []byte
	if _, err := w.WriteString("row,verdict,rule\n"); err != nil {
		return unusable("%s", err)
	}
	t.totals.Error, err = eachFlow(in.flows, func(row int, r flow.Record, bad *ingest.RowError) error {
		t.totals.Rows = row
		line = append(strconv.AppendInt(line[:0], int64(row), 10), ',')
		if t.compared != nil && bad == nil {
			if err := t.compared.row(row, r, t.changes); err != nil {
				return err
			}
		}
		if bad != nil {
			line = append(line, "error,"...)
		} else if i := c.Rule(c.At(r.Client, r.Start), c.At(r.Server, r.Start), r.Point); i >= 0 {
			rule := c.Policy.Rules[i]
			v := decide.VerdictOf(rule)
			t.hits[i]++
			t.verdicts[v]++
			line = append(append(line, v.String()...), ',')
			line = strconv.AppendInt(line, int64(rule.Line), 10)
		} else {
			t.verdicts[decide.Uncovered]++
			line = append(line, "uncovered,"...)
		}
		if _, err := w.Write(append(line, '\n')); err != nil {
			return unusable("%s", err)
		}
		return nil
	})
	return err
}

func writeTotals(name string, totals *checkSummary, verdicts [3]int, hits []int, c *decide.Compiled) error {
	totals.Permit, totals.Reject, totals.Uncovered = verdicts[decide.Permit], verdicts[decide.Reject],
		verdicts[decide.Uncovered]
	totals.Rules = map[string]int{}
	for i, n := range hits {
		if n > 0 {
			totals.Rules[strconv.Itoa(c.Policy.Rules[i].Line)] = n
		}
	}
	return writeJSON(name, totals)
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
