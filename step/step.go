// Package step has what the use cases of every step of the work stand on.
//
// It knows no step. A Base is safe for concurrent use; nothing of it changes later.
package step

import (
	"context"
	"log/slog"

	"lucidorchard/events"
	"lucidorchard/jobs"
	"lucidorchard/model"
)

// Base is what each step's use cases have.
type Base struct {
	Models *model.Keeper
	Events *events.Events
	Author string // who makes the changes; there are no accounts yet
	Log    *slog.Logger
	*jobs.Runner
}

// Model returns the state of the estate that a question is answered from: one that
// knows all that was written before it was asked for.
func (b *Base) Model(ctx context.Context) (*model.Model, error) { return b.Models.Current(ctx) }
