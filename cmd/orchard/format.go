package main

import (
	"github.com/spf13/cobra"

	"lucidorchard/core/policy"
)

func formatCommand() *cobra.Command {
	var file string
	var check bool
	cmd := &cobra.Command{
		Use:   "format --policy F [--check]",
		Short: "Print a policy in the canonical layout, or check the layout",
		Args:  cobra.NoArgs,
		RunE:  func(*cobra.Command, []string) error { return format(file, check) },
	}
	cmd.Flags().StringVar(&file, "policy", "", "policy text")
	cmd.Flags().BoolVar(&check, "check", false, "print nothing; end with status 1 if the layout differs")
	needs(cmd, "policy")
	return cmd
}

func format(file string, check bool) error {
	text, err := readText(file)
	if err != nil {
		return err
	}
	p, errs := policy.ParseLoose(text)
	if err := policyErrors(file, errs); err != nil {
		return err
	}
	formatted := p.Format()
	if !check {
		return writeAll("", formatted)
	}
	if formatted != text {
		return exit{1, file + ": the layout is not the canonical one; orchard format prints it"}
	}
	return nil
}
