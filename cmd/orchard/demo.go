package main

import (
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"lucidorchard/demo"
	"lucidorchard/ingest"
)

func demoCommand() *cobra.Command {
	var o demo.Options
	var out, end string
	cmd := &cobra.Command{
		Use:   "demo [--scale N] [--days N] [--end TIME] [--out DIR]",
		Short: "Write the made-up company as workloads.csv, flows.csv and policy.orchard",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			o.End = time.Now()
			if end != "" {
				t, err := time.Parse(time.RFC3339, end)
				if err != nil {
					return unusable("--end: %s", err)
				}
				o.End = t
			}
			return writeDemo(o, out)
		},
	}
	cmd.Flags().IntVar(&o.Workloads, "scale", 420, "about how many workloads, up to 100000")
	cmd.Flags().IntVar(&o.Days, "days", 14, "days of traffic")
	cmd.Flags().Uint64Var(&o.Seed, "seed", 1, "seed of the random generator; another seed creates another company")
	cmd.Flags().StringVar(&end, "end", "", "when the traffic ends, RFC 3339 (default now)")
	cmd.Flags().StringVar(&out, "out", "saltmarsh", "folder to write to")
	return cmd
}

func writeDemo(o demo.Options, dir string) error {
	if o.Workloads < 100 || o.Workloads > 100_000 || o.Days < 1 || o.Days > 60 {
		return unusable("found --scale %d and --days %d, expected 100 to 100000 workloads and 1 to 60 days",
			o.Workloads, o.Days)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return unusable("%s", err)
	}
	c := demo.Generate(o)
	for _, f := range []struct {
		name string
		rows func(*csv.Writer) error
	}{
		{"workloads.csv", func(w *csv.Writer) error { return ingest.WriteWorkloads(w, c.Workloads) }},
		{"flows.csv", func(w *csv.Writer) error {
			if err := w.Write(ingest.FlowHeader); err != nil {
				return err
			}
			for _, r := range c.Records {
				if err := w.Write(ingest.FlowRow(r)); err != nil {
					return err
				}
			}
			return nil
		}},
	} {
		if err := writeCSV(filepath.Join(dir, f.name), f.rows); err != nil {
			return err
		}
	}
	if err := writeAll(filepath.Join(dir, "policy.orchard"), c.Policy); err != nil {
		return err
	}
	fmt.Fprintf(os.Stderr, "wrote %d workloads and %d flows to %s\n", len(c.Workloads), len(c.Records), dir)
	return nil
}

func writeCSV(name string, rows func(*csv.Writer) error) error {
	o, err := create(name)
	if err != nil {
		return err
	}
	defer o.drop()
	w := csv.NewWriter(o)
	if err := rows(w); err != nil {
		return unusable("%s", err)
	}
	if w.Flush(); w.Error() != nil {
		return unusable("%s", w.Error())
	}
	return o.commit()
}
