package inventory

import "context"

// Store is where the step keeps what is its own, and reads what it needs of others. Its
// methods are safe for concurrent use.
type Store interface {
	// AddToken keeps the hash of a token's secret.
	AddToken(ctx context.Context, t Token, secret string) (Token, error)
	// Disagreements returns the values of tags on which sources disagree and that
	// nobody has settled by hand, the one that counts first; those of up to limit
	// tags, and how many tags there are.
	Disagreements(ctx context.Context, offset, limit int) (values []SourceValue, tags int, err error)
	// DropSelection forgets a selection, and says whether there was one.
	DropSelection(ctx context.Context, list, name string) (found bool, err error)
	// Listed returns the ids of the workloads that a source lists.
	Listed(ctx context.Context, source string) ([]string, error)
	// RankSources says whose values win: the first one's.
	RankSources(ctx context.Context, names []string) error
	// RefuseTags keeps refusals; with again, it drops them.
	RefuseTags(ctx context.Context, tags []RefusedTag, again bool) error
	// RefusedTags returns all refusals.
	RefusedTags(ctx context.Context) ([]RefusedTag, error)
	// RevokeToken ends a token, and says whether there is one.
	RevokeToken(ctx context.Context, id int64) (found bool, err error)
	// ValuesOf returns what every source says of a workload's tags.
	ValuesOf(ctx context.Context, workload string) ([]SourceValue, error)
	// SaveSelection keeps a selection under its name.
	SaveSelection(ctx context.Context, x Selection) error
	// Selections returns the selections of a list by name.
	Selections(ctx context.Context, list string) ([]Selection, error)
	// SetInapplicable keeps for which workloads a tag does not apply, an expression;
	// blank: it applies to all.
	SetInapplicable(ctx context.Context, key, where string) error
	// SetStructural keeps which tag keys say where a workload belongs.
	SetStructural(ctx context.Context, keys []string) error
	// SetTags sets tags by hand, as one change that can be undone.
	SetTags(ctx context.Context, edits []TagEdit, author, words string) error
	// Sources returns the inventory sources, the one whose values win first.
	Sources(ctx context.Context) ([]Source, error)
	// SpokenFor returns the ids of the workloads whose name, os and kind stay as they
	// are, whatever a source says: a source that outranks it gave them, and lists
	// them.
	SpokenFor(ctx context.Context, source string) (map[string]bool, error)
	// TagHistory returns what was said of a workload's tags and is said no more, newest
	// first.
	TagHistory(ctx context.Context, workload string) ([]FormerValue, error)
	// Take stores what a source says, whole or not at all. The same listing twice
	// changes nothing.
	Take(ctx context.Context, l Listing) (Taken, error)
	// Tokens returns all tokens, newest first.
	Tokens(ctx context.Context) ([]Token, error)
	// UseToken finds the token of a secret and notes that it was used; nil if there
	// is none, or it was revoked.
	UseToken(ctx context.Context, secret string) (*Token, error)
}
