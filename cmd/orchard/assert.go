package main

import (
	"encoding/csv"
	"strconv"

	"github.com/spf13/cobra"

	"lucidorchard/core/prove"
)

func assertCommand() *cobra.Command {
	var in inputs
	var out string
	cmd := &cobra.Command{
		Use:   "assert --workloads F --policy F [--as-of TIME] [--out F]",
		Short: "Prove the assertions of a policy over all endpoints and services",
		Args:  cobra.NoArgs,
		RunE:  func(*cobra.Command, []string) error { return assert(in, out) },
	}
	cmd.Flags().StringVar(&in.workloads, "workloads", "", "workloads, CSV")
	cmd.Flags().StringVar(&in.policy, "policy", "", "policy text")
	cmd.Flags().StringVar(&in.asOf, "as-of", "", "instant of the proof, RFC 3339 (default now)")
	cmd.Flags().StringVar(&out, "out", "", "results, CSV (default standard output)")
	mapped(cmd)
	needs(cmd, "workloads", "policy")
	return cmd
}

func assert(in inputs, out string) error {
	c, err := compile(in)
	if err != nil {
		return err
	}
	w, err := create(out)
	if err != nil {
		return err
	}
	defer w.drop()
	rows := csv.NewWriter(w)
	_ = rows.Write([]string{"line", "kind", "result", "client", "server", "service", "rule"})
	status := 0
	for _, r := range prove.Assertions(c) {
		row := []string{strconv.Itoa(r.Assert.Line), r.Assert.Kind.String(), r.Outcome.String(), "", "", "", ""}
		if r.Outcome != prove.Holds {
			status = 1
			row[3], row[4], row[5] = r.Client.Addr.String(), r.Server.Addr.String(), r.Point.String()
			if r.Rule != nil {
				row[6] = strconv.Itoa(r.Rule.Line)
			}
		}
		_ = rows.Write(row)
	}
	rows.Flush()
	if err := rows.Error(); err != nil {
		return unusable("%s", err)
	}
	if err := w.commit(); err != nil {
		return err
	}
	if status != 0 {
		return exit{status, ""}
	}
	return nil
}
