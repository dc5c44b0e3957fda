package main

import (
	"context"
	"os"
	"os/exec"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"lucidorchard/point"
)

func pointCommand() *cobra.Command {
	var a point.Agent
	var file, level string
	var load bool
	cmd := &cobra.Command{
		Use:   "point --server URL --token-file F --state DIR | point --load --state DIR",
		Short: "Run an enforcement point: load the server's plans into this machine's nftables",
		Long: `It writes the table inet lucid_orchard, for moments also
inet lucid_orchard_next, and touches no other. DIR keeps the plans that
were loaded last; they are loaded before the server is asked. After a change of rules
it returns to the former plans if it cannot reach the server for the time of
--way-back. When it ends, the table stays.

With --load it loads the plans that DIR keeps and ends: at boot, before the network
is up.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			if load {
				return loadKept(&a, level)
			}
			return bePoint(ctx, &a, file, level)
		},
	}
	f := cmd.Flags()
	f.StringVar(&a.Server, "server", "", "URL of the server")
	f.StringVar(&file, "token-file", "", "file with the point's token")
	f.StringVar(&a.State, "state", "", "folder that keeps plans and ended connections")
	f.DurationVar(&a.RollbackAfter, "way-back", 30*time.Second, "how long it waits for its server after a change of rules")
	f.DurationVar(&a.Check, "check", 10*time.Second, "how often it reads back what the kernel has loaded")
	f.StringVar(&level, "log-level", "info", "debug, info, warn or error")
	f.BoolVar(&load, "load", false, "load the plans that --state keeps, and end")
	needs(cmd, "state")
	cmd.MarkFlagsOneRequired("load", "server")
	cmd.MarkFlagsRequiredTogether("server", "token-file")
	cmd.MarkFlagsMutuallyExclusive("load", "server")
	return cmd
}

// loadKept loads the plans that an earlier run kept. That there are none is no error.
func loadKept(a *point.Agent, level string) (err error) {
	if a.Log, err = (&serveOptions{logLevel: level, logFormat: "text"}).logger(os.Stderr); err != nil {
		return err
	}
	a.Kernel = &point.Nftables{Dir: a.State}
	return a.LoadKept()
}

func bePoint(ctx context.Context, a *point.Agent, file, level string) error {
	token, err := os.ReadFile(file)
	if err != nil {
		return unusable("--token-file: %s", err)
	}
	if a.Token = strings.TrimSpace(string(token)); a.Token == "" {
		return unusable("--token-file: %s is empty, expected the token that was shown when the point was made", file)
	}
	if a.RollbackAfter < time.Second || a.Check < time.Second {
		return unusable("--way-back, --check: found less than 1s")
	}
	if _, err := exec.LookPath("nft"); err != nil {
		return unusable("nft is not installed: the Debian package is nftables")
	}
	if os.Geteuid() != 0 {
		return unusable("only root may change the kernel's tables")
	}
	if a.Log, err = (&serveOptions{logLevel: level, logFormat: "text"}).logger(os.Stderr); err != nil {
		return err
	}
	a.Kernel = &point.Nftables{Dir: a.State}
	return a.Run(ctx)
}
