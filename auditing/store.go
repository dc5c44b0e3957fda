package auditing

import (
	"context"
	"crypto/ed25519"

	"lucidorchard/core/evidence"
)

// Store is where the step keeps what is its own, and reads what it needs of others. Its
// methods are safe for concurrent use.
type Store interface {
	// AddEvidenceSchedule keeps one; ErrTaken: there is one.
	AddEvidenceSchedule(ctx context.Context, e EvidenceSchedule) (id int64, err error)
	// DropEvidence forgets evidence, and says whether there was.
	DropEvidence(ctx context.Context, id int64) (bool, error)
	// DropEvidenceSchedule ends one, and says whether there was. What it made stays.
	DropEvidenceSchedule(ctx context.Context, id int64) (bool, error)
	// EvidenceMade returns all that was made, the newest first, without what it says.
	EvidenceMade(ctx context.Context) ([]EvidenceKept, error)
	// EvidenceOf returns one; ErrNone: there is none.
	EvidenceOf(ctx context.Context, id int64) (*EvidenceKept, error)
	// EvidenceSchedules returns all.
	EvidenceSchedules(ctx context.Context) ([]EvidenceSchedule, error)
	// PutEvidence keeps evidence, and returns its number; 0: its schedule has made it already.
	PutEvidence(ctx context.Context, e *EvidenceKept) (id int64, err error)
	// Recall fills a case with all that is on record of its period, but for the traffic: in
	// one transaction.
	Recall(ctx context.Context, c *evidence.Case) error
	// SayEvidenceProblem keeps why a schedule could not make what is due; blank: it could.
	SayEvidenceProblem(ctx context.Context, id int64, problem string) error
	// SigningKey returns the key by which evidence is signed: it is made when first asked for,
	// and the same for all servers of a database.
	SigningKey(ctx context.Context) (ed25519.PrivateKey, error)
}
