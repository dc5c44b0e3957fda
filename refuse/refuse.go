// Package refuse has the errors that whoever asked can put right: what is wrong, where, and
// what to do. Whoever answers a request gives each Kind its status.
package refuse

// Kind is the kind of a refusal.
type Kind int

// The kinds of a Problem.
const (
	IsMissing  Kind = iota // it is not there
	IsInvalid              // it cannot be meant
	IsMoved                // somebody else was faster
	IsConflict             // it does not go with what there is
	IsLacking              // a complete list lacks much; it has to be confirmed
)

// Problem is something that whoever asked can put right. Nothing was changed.
type Problem struct {
	Kind   Kind
	Detail string // what, where, and what to do
	// Of what somebody else was faster with: the newest revision, what the edit was
	// made on, and what stands there now.
	Revision int
	Was, Now string
	// Of what cannot be meant: which part of the request it is, as in "query.q", and what
	// stood there. Blank: the detail says it.
	Where, Found string
}

func (p *Problem) Error() string { return p.Detail }

// Missing reports that something is not there.
func Missing(detail string) error { return &Problem{Kind: IsMissing, Detail: detail} }

// Invalid reports that something cannot be meant.
func Invalid(detail string) error { return &Problem{Kind: IsInvalid, Detail: detail} }

// Conflict reports that something does not go with what there is.
func Conflict(detail string) error { return &Problem{Kind: IsConflict, Detail: detail} }

// Moved reports that somebody else was faster.
func Moved(detail string) error { return &Problem{Kind: IsMoved, Detail: detail} }
