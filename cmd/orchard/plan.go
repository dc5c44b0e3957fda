package main

import (
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"lucidorchard/core/decide"
	"lucidorchard/core/expr"
	"lucidorchard/core/plan"
	"lucidorchard/core/plan/acl"
	"lucidorchard/core/plan/k8s"
	"lucidorchard/core/plan/nft"
)

// planned is the arguments of plan.
type planned struct {
	inputs
	guards, kind, side, mode, format, out string
}

func planCommand() *cobra.Command {
	var in planned
	cmd := &cobra.Command{
		Use: "plan --workloads F --policy F --guards EXPR [--kind host|gate] [--side server|client|both]\n" +
			"    [--mode observe|enforce] [--format nft|acl|k8s|json] [--as-of TIME] [--out F]",
		Short: "Write the plan of an enforcement point for a policy",
		Long: `The point guards the workloads of which EXPR says yes; it may name groups of the
policy ("member of booking-live"). nft is a script for nft -f of the one table
inet lucid_orchard, which replaces what it loaded before in one transaction; while
that is loaded, some kernels let packets pass for up to a millisecond. acl is
access control lists of RFC 8519, k8s NetworkPolicies of Kubernetes; what they cannot
say is printed as warnings, and the status is 1 then. json is the plan itself.`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error { return makePlan(in) },
	}
	f := cmd.Flags()
	f.StringVar(&in.workloads, "workloads", "", "workloads, CSV")
	f.StringVar(&in.policy, "policy", "", "policy text")
	f.StringVar(&in.guards, "guards", "", "expression: which workloads the point guards")
	f.StringVar(&in.kind, "kind", "host", "host: it guards itself; gate: it stands in the path")
	f.StringVar(&in.side, "side", "both", "as what it polices them: server, client or both")
	f.StringVar(&in.mode, "mode", "enforce", "enforce drops what is rejected, observe counts it and carries it")
	f.StringVar(&in.format, "format", "nft", "nft, acl, k8s or json")
	f.StringVar(&in.asOf, "as-of", "", "instant to plan for, RFC 3339 (default now)")
	f.StringVar(&in.out, "out", "", "where to write (default standard output)")
	mapped(cmd)
	needs(cmd, "workloads", "policy", "guards")
	return cmd
}

// check reports which argument is none of those that there are.
func (in *planned) check() error {
	for _, x := range []struct {
		flag, value string
		known       []string
	}{
		{"kind", in.kind, []string{"host", "gate"}},
		{"side", in.side, []string{"server", "client", "both"}},
		{"mode", in.mode, []string{"observe", "enforce"}},
		{"format", in.format, []string{"nft", "acl", "k8s", "json"}},
	} {
		if !slices.Contains(x.known, x.value) {
			return unusable("--%s: found %q, expected %s", x.flag, x.value, strings.Join(x.known, " or "))
		}
	}
	if in.mode == "observe" && (in.format == "acl" || in.format == "k8s") {
		return unusable("--mode: %s cannot observe: what it holds is enforced; leave it out, or use nft", in.format)
	}
	return nil
}

func makePlan(in planned) error {
	if err := in.check(); err != nil {
		return err
	}
	guards, errs := expr.ParseText(in.guards)
	if len(errs) > 0 {
		return policyErrors("--guards", errs)
	}
	c, err := compile(in.inputs)
	if err != nil {
		return err
	}
	if err := namesGroups(c, guards); err != nil {
		return err
	}
	g := plan.Guarded(c, []*expr.Expr{guards})[0]
	if len(g.In) == 0 {
		return unusable("--guards: %q guards nobody: of the %d workloads, of those that hold an address it says no, and "+
			"cannot tell %d; look at their tags", in.guards, c.Estate.Len(), len(g.Undecided))
	}
	p := plan.NewPlanner(c).Plan(g.In, plan.Kind(in.kind), plan.Side(in.side))
	var warnings []string
	if n := len(g.Undecided); n > 0 {
		warnings = append(warnings, fmt.Sprintf("%d workloads are not guarded, as --guards cannot tell them", n))
	}
	cannot, err := in.write(p)
	if err != nil {
		return err
	}
	for _, w := range slices.Concat(warnings, cannot, map[string][]string{"acl": acl.Notes,
		"k8s": k8s.Notes}[in.format]) {
		fmt.Fprintln(os.Stderr, "orchard: warning: "+w)
	}
	if len(cannot) > 0 {
		return exit{1, ""}
	}
	return nil
}

// namesGroups reports a group that the policy does not have.
func namesGroups(c *decide.Compiled, e *expr.Expr) (err error) {
	e.Walk(func(x *expr.Expr) {
		if x.Op == expr.MemberOf && c.Policy.Groups[x.Group] == nil && err == nil {
			err = unusable("--guards: the policy has no group %s", x.Group)
		}
	})
	return err
}

// write renders the plan, and returns what the format cannot say.
func (in *planned) write(p *plan.Plan) (cannot []string, err error) {
	var text []byte
	switch in.format {
	case "json":
		return nil, writeJSON(in.out, p)
	case "acl":
		var d acl.Document
		d, cannot = acl.Of(p)
		text, err = d.Text()
	case "k8s":
		var l k8s.List
		l, cannot = k8s.Of(p)
		text, err = l.Text()
	default:
		var b strings.Builder
		err = nft.Write(&b, p, nft.Options{Observe: in.mode == "observe", Note: fmt.Sprintf("Lucid Orchard: %s, %s, "+
			"%s of %s\nplan %s\nConversations that run stay as they are until they end.", in.mode, in.kind, in.side,
			in.guards, p.Hash())})
		text = []byte(strings.TrimSuffix(b.String(), "\n"))
	}
	if err != nil {
		return nil, unusable("%s", err)
	}
	return cannot, writeAll(in.out, string(text)+"\n")
}
