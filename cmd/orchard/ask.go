package main

import (
	"encoding/csv"
	"fmt"
	"os"
	"strconv"

	"github.com/spf13/cobra"

	"lucidorchard/core/decide"
	"lucidorchard/core/plural"
	"lucidorchard/core/whatif"
)

func askCommand() *cobra.Command {
	var in inputs
	var questions, out string
	cmd := &cobra.Command{
		Use:   "ask --workloads F --policy F --questions F [--as-of TIME] [--out F]",
		Short: "Answer what-if questions, and check those with an expected verdict",
		Long: `Each line of the questions is "client -> server service", and may end in "= permit",
"= reject" or "= uncovered": the verdict that is expected. A side is a group, a
workload, an address, a CIDR, outside, any, or an expression in parentheses.
Groups are answered for all their members. The status is 1 if an answer is not
as expected.`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error { return askAll(in, questions, out) },
	}
	cmd.Flags().StringVar(&in.workloads, "workloads", "", "workloads, CSV")
	cmd.Flags().StringVar(&in.policy, "policy", "", "policy text")
	cmd.Flags().StringVar(&questions, "questions", "", "questions, one a line")
	cmd.Flags().StringVar(&in.asOf, "as-of", "", "instant of the questions, RFC 3339 (default now)")
	cmd.Flags().StringVar(&out, "out", "", "answers, CSV (default standard output)")
	mapped(cmd)
	needs(cmd, "workloads", "policy", "questions")
	return cmd
}

func askAll(in inputs, file, out string) error {
	in.flows = file // standard input serves one of the three
	if err := in.check(); err != nil {
		return err
	}
	in.flows = ""
	c, err := compile(in)
	if err != nil {
		return err
	}
	text, err := readText(file)
	if err != nil {
		return err
	}
	census := whatif.Count(c)
	questions, errs := census.Read(text)
	if err := policyErrors(file, errs); err != nil {
		return err
	}
	w, err := create(out)
	if err != nil {
		return err
	}
	defer w.drop()
	rows := csv.NewWriter(w)
	_ = rows.Write([]string{"line", "question", "verdict", "expected", "as_expected", "pairs", "permit", "reject",
		"uncovered", "mixed", "answer"})
	off := 0
	for i, a := range census.AnswerAll(questions) {
		q := &questions[i]
		expected, as := "", ""
		if q.Want != nil {
			expected, as = q.Want.String(), "yes"
			if !q.As(a) {
				off, as = off+1, "no"
			}
		}
		n := strconv.Itoa
		_ = rows.Write([]string{n(q.Line), q.Text, a.Verdict(), expected, as, n(a.Pairs), n(a.Of[decide.Permit]),
			n(a.Of[decide.Reject]), n(a.Of[decide.Uncovered]), n(a.Mixed), census.Words(q, a)})
	}
	rows.Flush()
	if err := rows.Error(); err != nil {
		return unusable("%s", err)
	}
	if err := w.commit(); err != nil {
		return err
	}
	if off > 0 {
		fmt.Fprintf(os.Stderr, "%s not as expected\n", plural.Of(off, "answer is", "answers are"))
		return exit{1, ""}
	}
	return nil
}
