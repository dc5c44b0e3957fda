// Command orchard is Lucid Orchard: the policy tools for the command line and
// the web application. Each subcommand has a file of its own; they parse
// arguments and wire the packages together.
package main

import (
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"
)

// exit is an error that says with which status to end; its message, if it has
// one, goes to standard error.
type exit struct {
	status  int
	message string
}

func (e exit) Error() string { return e.message }

func main() { os.Exit(run(os.Args[1:])) }

func run(args []string) int {
	root := &cobra.Command{
		Use:           "orchard",
		Short:         "Derive, check and prove segmentation policy",
		SilenceErrors: true,
		SilenceUsage:  true,
		Args:          cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			cmd.SetOut(os.Stderr)
			_ = cmd.Help()
			return exit{2, ""}
		},
	}
	root.CompletionOptions.DisableDefaultCmd = true
	root.AddCommand(checkCommand(), deriveCommand(), assertCommand(), planCommand(), releaseCommand(), askCommand(),
		formatCommand(), demoCommand(),
		serveCommand(), pointCommand(), standInCommand(), packetsCommand(), talkCommand(), verifyEvidenceCommand(),
		openapiCommand())
	root.SetArgs(args)
	err := root.Execute()
	if err == nil {
		return 0
	}
	var e exit
	if !errors.As(err, &e) {
		e = exit{2, err.Error() + "\nRun 'orchard --help' for the commands and their arguments."}
	}
	if e.message != "" {
		fmt.Fprintln(os.Stderr, "orchard: "+e.message)
	}
	return e.status
}

// unusable reports that the input or the arguments cannot be used.
func unusable(format string, args ...any) error {
	return exit{2, fmt.Sprintf(format, args...)}
}
