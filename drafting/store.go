package drafting

import (
	"context"
	"encoding/json"

	"lucidorchard/history"
	"lucidorchard/jobs"
	"lucidorchard/model"
)

// Store is where the step keeps what is its own, and reads what it needs of others. Its
// methods are safe for concurrent use.
type Store interface {
	// AddDerivation stores a derivation with its proposals and what it set aside. body is called with the
	// ids of the proposals, in their order.
	AddDerivation(ctx context.Context, d Derivation, proposals []KeptProposal, aside []AsideTalk,
		body func(ids []int64) (json.RawMessage, error)) (id int64, err error)
	// Apply stores an edit as one change that can be undone.
	Apply(ctx context.Context, e Edit) error
	// NewestDerivationID returns the id of the newest derivation; 0 if there is none.
	NewestDerivationID(ctx context.Context) (id int64, err error)
	// Probes returns all probes, in the order in which they were kept.
	Probes(ctx context.Context) ([]model.Probe, error)
	// Proposals returns proposals by their ids, in the order of ids; those that are not
	// there are left out.
	Proposals(ctx context.Context, ids []int64) ([]KeptProposal, error)
	// ReadDerivation returns a derivation with its proposals, in the order in which they were
	// stored. Neither changes once it is stored. The error is sql.ErrNoRows if there is none
	// with this id.
	ReadDerivation(ctx context.Context, id int64) (Derivation, []KeptProposal, error)
	// Refusals returns all refusals, newest first.
	Refusals(ctx context.Context) ([]Refusal, error)
	// Revision returns one revision.
	Revision(ctx context.Context, no int) (model.Revision, error)
	// Revisions returns a part of the revisions, the newest first, without their texts,
	// and how many there are.
	Revisions(ctx context.Context, offset, limit int) (out []model.Revision, total int, err error)
	// SetAside returns what the newest derivation set aside for a reason; for any, if
	// it is "all".
	SetAside(ctx context.Context, reason string) ([]AsideTalk, error)
	// Redo makes the change again that was undone last. Without one it returns
	// history.ErrNothing.
	Redo(ctx context.Context, author string) (*history.Change, error)
	// Undo takes back the newest change that was not taken back. Without one it
	// returns history.ErrNothing.
	Undo(ctx context.Context, author string) (*history.Change, error)
	// Undoable returns the change that Undo, and the one that Redo would take; nil
	// where there is none.
	Undoable(ctx context.Context) (undo, redo *history.Change, err error)
	// NewestJob returns the newest job of a kind, without its result; nil if there is
	// none.
	NewestJob(ctx context.Context, kind string) (*jobs.Job, error)
}
