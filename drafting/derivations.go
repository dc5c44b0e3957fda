package drafting

import (
	"encoding/json"
	"net/netip"

	"lucidorchard/core/service"
)

// Derivation is one run of deriving, without its proposals. What its body says
// is the business of who derives.
type Derivation struct {
	ID       int64           `db:"id"`
	Revision int             `db:"revision"`
	Body     json.RawMessage `db:"body"`
	Seen     []byte          `db:"seen"` // the conversations that it looked at; nil: made before they were kept
}

// KeptProposal is what a derivation proposed.
type KeptProposal struct {
	ID         int64           `db:"id"`
	Derivation int64           `db:"derivation"`
	Rule       string          `db:"rule"` // its sentence, without its note
	Body       json.RawMessage `db:"body"`
	Seen       []byte          `db:"seen"` // which of the derivation's conversations are behind it
}

// AsideTalk is a conversation that a derivation set aside for a reason.
type AsideTalk struct {
	Reason         string
	Client, Server netip.Addr
	Point          service.Point
}
