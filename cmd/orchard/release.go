package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	releasingrest "lucidorchard/releasing/rest"
)

// jobRelease is a release from a job.
type jobRelease struct {
	server, tokenFile, policy, title string
	wave                             int
	enforce, instead, wait           bool
	timeout, every                   time.Duration

	token string
}

func releaseCommand() *cobra.Command {
	r := jobRelease{every: time.Second}
	cmd := &cobra.Command{
		Use:   "release --server URL --token-file F --policy F --title T [--wave N] [--enforce] [--wait]",
		Short: "Release a policy from a job, and follow it",
		Long: `The policy becomes the draft and is released; a policy that is in force already is
not released again. Points up to --wave observe it, and with --enforce they enforce it
wave by wave, as soon as what the waves wait for is so. With --wait the command ends
when all that has arrived.

Ends with 0 when it arrived (without --wait: when it was released), 1 when it did not
or was refused, 2 when the input cannot be used.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return r.run(cmd.Context()) },
	}
	f := cmd.Flags()
	f.StringVar(&r.server, "server", "", "URL of the server")
	f.StringVar(&r.tokenFile, "token-file", "", "file with a token that may release")
	f.StringVar(&r.policy, "policy", "", "the policy's text")
	f.StringVar(&r.title, "title", "", "what it changes, for people")
	f.IntVar(&r.wave, "wave", 1, "the last wave that it is to reach")
	f.BoolVar(&r.enforce, "enforce", false, "enforce it there; else it is only observed")
	f.BoolVar(&r.instead, "instead", false, "take the place of a release that is still being rolled out")
	f.BoolVar(&r.wait, "wait", false, "follow it until it has arrived")
	f.DurationVar(&r.timeout, "timeout", 10*time.Minute, "how long to wait at most")
	needs(cmd, "server", "token-file", "policy", "title")
	return cmd
}

func (r *jobRelease) run(ctx context.Context) error {
	token, err := os.ReadFile(r.tokenFile)
	if err != nil {
		return unusable("--token-file: %s", err)
	}
	if r.token = strings.TrimSpace(string(token)); r.token == "" {
		return unusable("--token-file: %s is empty", r.tokenFile)
	}
	text, err := os.ReadFile(r.policy)
	if err != nil {
		return unusable("--policy: %s", err)
	}
	if strings.TrimSpace(r.title) == "" || r.wave < 1 {
		return unusable("--title, --wave: found %q and %d, expected a title and a wave from 1 on", r.title, r.wave)
	}
	var made releasingrest.Release
	if err := r.ask(ctx, "/pipeline/releases", map[string]any{"policy": string(text), "title": r.title,
		"instead": r.instead},
		&made); err != nil {
		return err
	}
	fmt.Printf("release %d: %s\n", made.No, made.Title)
	return r.follow(ctx, made.No)
}

// follow goes on until the release has arrived, or for one step.
func (r *jobRelease) follow(ctx context.Context, no int) error {
	until := time.Now().Add(r.timeout)
	said := ""
	for {
		var f releasingrest.Followed
		if err := r.ask(ctx, fmt.Sprintf("/pipeline/releases/%d/follow", no),
			map[string]any{"wave": r.wave, "enforce": r.enforce},
			&f); err != nil {
			return err
		}
		words := fmt.Sprintf("%s: %d of %d points", f.State, f.Points, f.Of)
		if len(f.Words) > 0 {
			words += "; " + strings.Join(f.Words, "; ")
		}
		if words != said {
			fmt.Println(words)
			said = words
		}
		switch {
		case f.State == "arrived":
			return nil
		case f.State == "failed" || f.State == "replaced":
			return exit{1, fmt.Sprintf("release %d did not arrive: %s", no, strings.Join(f.Words, "; "))}
		case !r.wait:
			return nil
		case time.Now().After(until):
			return exit{1, fmt.Sprintf("release %d did not arrive in %s: %s", no, r.timeout, words)}
		}
		select {
		case <-ctx.Done():
			return exit{1, "interrupted; the roll-out stays as it is"}
		case <-time.After(r.every):
		}
	}
}

// ask posts JSON; what the server refuses ends with 1, with its words.
func (r *jobRelease) ask(ctx context.Context, path string, in, out any) error {
	raw, err := json.Marshal(in)
	if err != nil {
		return err
	}
	q, err := http.NewRequestWithContext(ctx, http.MethodPost, strings.TrimSuffix(r.server, "/")+"/api/v1"+path,
		bytes.NewReader(raw))
	if err != nil {
		return unusable("--server: %s", err)
	}
	q.Header.Set("Authorization", "Bearer "+r.token)
	q.Header.Set("Content-Type", "application/json")
	answer, err := http.DefaultClient.Do(q)
	if err != nil {
		return exit{1, fmt.Sprintf("the server cannot be reached: %s", err)}
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, 1<<20))
	if err != nil {
		return exit{1, fmt.Sprintf("the server cannot be understood: %s", err)}
	}
	if answer.StatusCode/100 == 2 {
		return json.Unmarshal(text, out)
	}
	var problem struct{ Detail string }
	if json.Unmarshal(text, &problem) != nil || problem.Detail == "" {
		problem.Detail = answer.Status
	}
	status := 1
	if answer.StatusCode == http.StatusUnprocessableEntity || answer.StatusCode == http.StatusUnauthorized {
		status = 2
	}
	return exit{status, problem.Detail}
}
