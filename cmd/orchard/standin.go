package main

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"lucidorchard/assembly"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/demo"
	"lucidorchard/point"
	"lucidorchard/refuse"
	"lucidorchard/releasing"
)

// standIn is points that ask, hold and say like real ones, and remember instead of
// filtering: for what cannot be here.
type standIn struct {
	server string
	tokens map[string]string // by point
	loses  string            // the point that loses a rule after a while
	after  time.Duration
	log    *slog.Logger

	agents  []*point.Agent
	kernels []*point.Memory
}

func standInCommand() *cobra.Command {
	var s standIn
	var file string
	cmd := &cobra.Command{
		Use:   "stand-in --server URL --points F",
		Short: "Simulate any number of enforcement points, in memory only",
		Long: `F is JSON: an object from names of points to their tokens. They speak as real
points do, so that a roll-out can be tried without machines; they filter nothing.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			raw, err := os.ReadFile(file)
			if err != nil {
				return unusable("--points: %s", err)
			}
			if err := json.Unmarshal(raw, &s.tokens); err != nil {
				return unusable("--points: %s: %s; expected an object from names to tokens", file, err)
			}
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			s.log = slog.New(slog.NewTextHandler(os.Stderr, nil))
			s.run(ctx)
			return nil
		},
	}
	f := cmd.Flags()
	f.StringVar(&s.server, "server", "", "URL of the server")
	f.StringVar(&file, "points", "", "names and tokens of the points, JSON")
	f.StringVar(&s.loses, "loses", "", "name of a point that loses a rule once, as if by hand")
	f.DurationVar(&s.after, "after", time.Minute, "how long it enforces rules before that")
	needs(cmd, "server", "points")
	return cmd
}

// prepare makes the points, which hold nothing yet.
func (s *standIn) prepare() {
	for _, name := range s.names() {
		k := &point.Memory{}
		s.kernels = append(s.kernels, k)
		s.agents = append(s.agents, &point.Agent{Server: s.server, Token: s.tokens[name], Kernel: k,
			Log: s.log.With("point", name), Check: 2 * time.Second, Beat: 2 * time.Second})
	}
}

// passes decides a connection by the plans that the points hold, as a real one in its
// way would: each counts it, and reports it if it rejects it or leaves it uncovered. It
// ends at the first that drops it: the one before the server, which decides where both
// ends are guarded, is asked first.
func (s *standIn) passes(o *flow.Observation) bool {
	pt := service.PointOf(o.Proto, uint32(o.DstPort))
	for i, k := range s.kernels {
		reports, drops := k.Meets(o.Src, o.Dst, pt)
		if reports {
			seen := *o
			seen.Packets, seen.Bytes, seen.Flags, seen.Outcome = 1, 60, flow.SYN, flow.Carried
			if drops {
				seen.Outcome = flow.Dropped
			}
			s.agents[i].See(seen)
		}
		if drops {
			return false
		}
	}
	return true
}

// run stands in until the context ends.
func (s *standIn) run(ctx context.Context) {
	if s.agents == nil {
		s.prepare()
	}
	var all sync.WaitGroup
	for i, name := range s.names() {
		k, a := s.kernels[i], s.agents[i]
		all.Go(func() {
			if err := a.Run(ctx); err != nil {
				a.Log.Error("ends", "error", err)
			}
		})
		if name == s.loses {
			all.Go(func() { s.lose(ctx, k, a.Log) })
		}
	}
	all.Wait()
}

// lose takes a rule away once the point has enforced some for a while.
func (s *standIn) lose(ctx context.Context, k *point.Memory, log *slog.Logger) {
	var since time.Time
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		switch {
		case !k.Enforces():
			since = time.Time{}
		case since.IsZero():
			since = time.Now()
		case time.Since(since) > s.after:
			log.Info("loses a rule", "rule", k.Lose())
			return
		}
	}
}

// demoPoints makes the demo's points, or finds those of an earlier run.
func demoPoints(ctx context.Context, a *assembly.App, data string) (map[string]string, error) {
	file := filepath.Join(data, "stand-in.json")
	tokens := map[string]string{}
	raw, err := os.ReadFile(file)
	if err == nil {
		return tokens, json.Unmarshal(raw, &tokens)
	}
	if !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	there, err := a.Store.Points(ctx)
	if err != nil || len(there) > 0 {
		return tokens, err
	}
	m, err := a.Models.Current(ctx)
	if err != nil {
		return nil, err
	}
	for _, p := range demo.Points {
		token, err := a.Releasing.AddPoint(ctx, m, releasing.Point{Name: p.Name, Kind: "gate", Side: p.Side,
			Guards: p.Guards, Wave: p.Wave})
		var not *refuse.Problem
		if errors.As(err, &not) { // the estate is another one than the demo's
			a.Log.Warn("a point of the demo is not made", "point", p.Name, "why", not.Detail)
			continue
		}
		if err != nil {
			return nil, err
		}
		tokens[p.Name] = token
	}
	if raw, err = json.MarshalIndent(tokens, "", "  "); err != nil {
		return nil, err
	}
	return tokens, os.WriteFile(file, raw, 0o600)
}

// names returns the points in their order.
func (s *standIn) names() (out []string) {
	for name := range s.tokens {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}
