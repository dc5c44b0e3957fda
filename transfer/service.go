package transfer

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/imports"
	"lucidorchard/ingest"
	"lucidorchard/jobs"
	"lucidorchard/model"
	"lucidorchard/refuse"
	"lucidorchard/step"
	"lucidorchard/traffic"
	"lucidorchard/traffic/rows"
)

// Service exports and restores. It is safe for concurrent use.
type Service struct {
	*step.Base
	Store
	now     func() time.Time
	loading sync.Mutex // while the made-up company is loaded
}

// Store reads and writes whole estates. Its methods are safe for concurrent use.
type Store interface {
	// Export writes the whole estate but for its conversations, as of one instant.
	Export(ctx context.Context, w io.Writer) error
	// Empty reports whether there are neither workloads nor a policy.
	Empty(ctx context.Context) (bool, error)
	// Restore puts back what Export wrote, whole or not at all; sound may refuse it.
	Restore(ctx context.Context, open func() (io.ReadCloser, error), progress func(lines int),
		sound func(*model.State, map[string]json.RawMessage) error) (lines int, err error)

	// Blank reports whether there are no workloads, traffic, policy or points.
	Blank(ctx context.Context) (bool, error)
	// Added counts the workloads that no one of sources lists, the conversations that
	// no observer whose name starts with observer reported, and the points.
	Added(ctx context.Context, sources []string, observer string) (Added, error)
	// Clear deletes the estate with its traffic, policy, releases and history. It leaves
	// tokens, keys, the exporters' states and the settings that do not describe the estate.
	Clear(ctx context.Context) error

	Setting(ctx context.Context, name string, to any) error
	Set(ctx context.Context, name string, value any) error
	ImportWorkloads(ctx context.Context, source string, keys []string, workloads []estate.Workload) error
	AddBatch(ctx context.Context, b rows.Batch) (before *time.Time, err error)
	Begin(ctx context.Context, r model.Revision) error
}

// New returns a Service.
func New(base *step.Base, s Store) *Service { return &Service{Base: base, Store: s, now: time.Now} }

// restored is the result of restoring an export.
type restored struct {
	Lines int `json:"lines"`
}

// RestoreFile starts to put an export back, and closes the file when that has ended.
func (a *Service) RestoreFile(ctx context.Context, file *imports.File) (jobs.Job, error) {
	job, err := a.StartStoring(ctx, "restore-estate", "Restore an export",
		func(ctx context.Context, progress func(float64, string)) (any, error) {
			defer file.Close()
			lines, err := a.Restore(ctx, func() (io.ReadCloser, error) { return file.Open() },
				func(n int) { progress(0.5, fmt.Sprintf("%d lines", n)) }, soundState)
			var bad *LineError
			if errors.As(err, &bad) {
				return nil, refuse.Invalid("the export cannot be used, nothing was stored: " + bad.Error())
			}
			if err != nil {
				return nil, err
			}
			a.Models.Nudge()
			return restored{lines}, nil
		})
	if err != nil {
		file.Close()
	}
	return job, err
}

// soundState refuses a state that answers could not be made from.
func soundState(st *model.State, settings map[string]json.RawMessage) error {
	for name, to := range map[string]any{"structural": &[]string{}, "inapplicable": &map[string]string{},
		"retention": &traffic.Retention{}, "flow form": &ingest.Form{}} {
		if raw := settings[name]; raw != nil {
			if err := json.Unmarshal(raw, to); err != nil {
				return fmt.Errorf("what the file holds cannot be read again: the setting %s: %w", name, err)
			}
		}
	}
	if _, conflicts := estate.New(st.Workloads); len(conflicts) > 0 {
		return fmt.Errorf("found leases that conflict: %w", conflicts[0])
	}
	if st.Head == nil { // workloads alone
		return nil
	}
	if _, errs := policy.Parse(st.Head.Text); len(errs) > 0 {
		return fmt.Errorf("found a policy with an error, in its line %d: %s", errs[0].Line, errs[0].Message)
	}
	if n := len(policy.Lines(st.Head.Text)); n != len(st.Head.Blame) {
		return fmt.Errorf("found a policy of %d lines, and who wrote %d lines of it", n, len(st.Head.Blame))
	}
	return nil
}
