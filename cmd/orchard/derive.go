package main

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"lucidorchard/core/decide"
	"lucidorchard/core/derive"
	"lucidorchard/core/flow"
	"lucidorchard/core/plural"
	"lucidorchard/core/policy"
	"lucidorchard/ingest"
)

func deriveCommand() *cobra.Command {
	var in inputs
	var out, summary string
	var balance float64
	cmd := &cobra.Command{
		Use:   "derive --workloads F --policy F --flows F [--balance 0..1] [--as-of TIME] [--out F] [--summary F]",
		Short: "Propose rules for the flows that the policy leaves uncovered",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if !(balance >= 0 && balance <= 1) {
				return unusable("--balance: found %v, expected a number from 0 (tightest) to 1 (fewest rules)",
					balance)
			}
			return deriveRules(in, balance, out, summary)
		},
	}
	cmd.Flags().StringVar(&in.workloads, "workloads", "", "workloads, CSV")
	cmd.Flags().StringVar(&in.policy, "policy", "", "policy text")
	cmd.Flags().StringVar(&in.flows, "flows", "", "flows, CSV")
	cmd.Flags().StringVar(&in.asOf, "as-of", "", "instant at which expired rules are off, RFC 3339 (default now)")
	cmd.Flags().Float64Var(&balance, "balance", derive.DefaultBalance, "from 0 (tightest) to 1 (fewest rules)")
	cmd.Flags().StringVar(&out, "out", "", "policy text with the proposed rules (default standard output)")
	cmd.Flags().StringVar(&summary, "summary", "", "summary of the derivation, JSON")
	mapped(cmd)
	needs(cmd, "workloads", "policy", "flows")
	return cmd
}

// deriveSummary is the JSON of derive --summary.
type deriveSummary struct {
	Rules      int                 `json:"rules"`
	Groups     int                 `json:"groups"`
	Considered int                 `json:"considered"`
	Covered    int                 `json:"covered"`
	Error      int                 `json:"error"`
	Balance    float64             `json:"balance"`
	Fill       float64             `json:"fill"` // of what the rules open, the share that was seen
	Gone       []goneSummary       `json:"gone"` // permits of the given policy that nothing of the flows needed
	SetAside   []asideSummary      `json:"setAside"`
	Curve      []derive.CurvePoint `json:"curve"`
	Why        []whySummary        `json:"why"`  // of each rule, in their order
	Tags       []derive.MissingTag `json:"tags"` // worth setting
}

type whySummary struct {
	Rule  string `json:"rule"` // without its note
	Why   string `json:"why"`
	Alone string `json:"alone,omitempty"` // why it has to be looked at by itself
}

type goneSummary struct {
	Line int    `json:"line"`
	Rule string `json:"rule"`
}

type asideSummary struct {
	Reason        derive.Reason `json:"reason"`
	Words         string        `json:"words"`
	Conversations int           `json:"conversations"`
	Examples      []string      `json:"examples"`
}

func deriveRules(in inputs, balance float64, out, summary string) error {
	c, text, err := compileText(in)
	if err != nil {
		return err
	}
	var seen derive.Gather
	bad, err := eachFlow(in.flows, func(_ int, r flow.Record, bad *ingest.RowError) error {
		if bad == nil {
			seen.Add(derive.Observed(c, r))
		}
		return nil
	})
	if err != nil {
		return err
	}
	input := derive.Input{Compiled: c, Conversations: seen.Conversations, Balance: balance}
	result := derive.Derive(input)
	derived := policy.InsertAllowances(text, result.Lines())
	p, errs := policy.Parse(derived)
	if err := policyErrors("the derived policy", errs); err != nil {
		return err
	}
	s := deriveSummary{
		Rules: len(result.Proposals), Groups: len(result.Groups), Considered: result.Considered,
		Covered: covered(c, p, seen.Conversations), Error: bad, Balance: balance,
		Gone: []goneSummary{}, SetAside: []asideSummary{}, Curve: result.Curve,
		Why: []whySummary{}, Tags: append([]derive.MissingTag{}, result.Tags...),
	}
	for _, p := range result.Proposals {
		bare := *p.Rule
		bare.Note = ""
		s.Why = append(s.Why, whySummary{bare.String(), p.Why, p.Alone})
	}
	for _, t := range result.Tags {
		fmt.Fprintf(os.Stderr, "worth setting: %s of %s to %s\n", t.Key, t.Workload, t.Value)
	}
	for _, i := range derive.Gone(input) {
		r := c.Policy.Rules[i]
		s.Gone = append(s.Gone, goneSummary{r.Line, r.String()})
		fmt.Fprintf(os.Stderr, "without evidence: line %d, %s\n", r.Line, r)
	}
	seenPairs, opened := 0, 0
	for _, p := range result.Proposals {
		seenPairs, opened = seenPairs+p.Pairs, opened+p.Opened
	}
	s.Fill = float64(seenPairs) / float64(max(1, opened))
	for _, a := range result.Aside {
		as := asideSummary{a.Reason, a.Reason.Words(), len(a.Conversations), nil}
		for _, i := range a.Conversations[:min(5, len(a.Conversations))] {
			v := seen.Conversations[i]
			as.Examples = append(as.Examples, fmt.Sprintf("%s -> %s %s", v.Client.Addr, v.Server.Addr, v.Point))
		}
		s.SetAside = append(s.SetAside, as)
		fmt.Fprintf(os.Stderr, "set aside as %s: %s (%s)\n", a.Reason,
			plural.Of(len(a.Conversations), "conversation", "conversations"), a.Reason.Words())
	}
	if err := writeAll(out, derived); err != nil {
		return err
	}
	if summary != "" {
		return writeJSON(summary, s)
	}
	return nil
}

// covered counts the conversations that derivation looked at and that the
// derived policy permits.
func covered(before *decide.Compiled, after *policy.Policy, seen []derive.Conversation) int {
	c := decide.Compile(before.Estate, after, before.AsOf)
	n := 0
	for i := range seen {
		v := &seen[i]
		if r := before.Decide(v.Client, v.Server, v.Point); v.Connections == 0 || r != nil && !r.InClosing() {
			continue
		}
		at := v.First
		client, server := c.At(v.Client.Addr, at), c.At(v.Server.Addr, at)
		if decide.VerdictOf(c.Decide(client, server, v.Point)) == decide.Permit {
			n++
		}
	}
	return n
}
