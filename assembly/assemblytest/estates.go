package assemblytest

import (
	"bytes"
	"io"
	"iter"
	"maps"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/releasing"
	"lucidorchard/traffic/rows"
)

// Leased returns a machine at an address, without a start that anybody knows.
func Leased(id, addr string, tags ...string) estate.Workload {
	w := Machine(id, addr, tags...)
	w.Leases = []estate.Lease{{Addr: netip.MustParseAddr(addr), From: estate.Beginning, Until: estate.End}}
	return w
}

func Machine(id, addr string, tags ...string) estate.Workload {
	w := estate.Workload{ID: id, Name: id,
		Leases: []estate.Lease{{Addr: netip.MustParseAddr(addr), From: estate.Beginning,
			Until: estate.Instant{Sec: 2_000_000_000, Nsec: 5000}}}}
	for i := 0; i < len(tags); i += 2 {
		w.SetTag(estate.Tag{Key: tags[i], Value: tags[i+1]})
	}
	return w
}

// TagValues returns id → key=value for comparing.
func TagValues(t *testing.T, s *assembly.Store) map[string]string {
	ws, err := s.Workloads(t.Context())
	require.NoError(t, err)
	out := map[string]string{}
	for _, w := range ws {
		text := ""
		for _, l := range w.Leases {
			text += l.Addr.String() + " "
		}
		for _, tag := range w.Tags {
			text += tag.Key + "=" + tag.Value + "(" + tag.Source + ") "
		}
		out[w.ID] = text
	}
	return out
}

// AllConversations reads all conversations.
func AllConversations(t *testing.T, s *assembly.Store) *flow.Table {
	hours, err := s.Hours(t.Context())
	require.NoError(t, err)
	table := flow.NewTable()
	chunks, _, err := s.Chunks(t.Context(), slices.Collect(maps.Keys(hours)), table.Dict)
	require.NoError(t, err)
	return table.With(chunks, nil)
}

// ObservedAt orders a point to observe a new release.
func ObservedAt(point string) func(int, releasing.Roll) ([]releasing.Target, error) {
	return func(no int, _ releasing.Roll) ([]releasing.Target, error) {
		return []releasing.Target{{Point: point, Observes: no, Words: "to observe"}}, nil
	}
}

// PartsOf cuts records of a file into parts of so many.
func PartsOf(file int, all []flow.Joined, size int) iter.Seq2[*rows.Part, error] {
	return func(yield func(*rows.Part, error) bool) {
		for rest := all; len(rest) > 0; rest = rest[min(size, len(rest)):] {
			p, records, buckets := rows.PartOf(file, rest[:min(size, len(rest))], nil)
			p.Records = bytes.NewReader(records)
			p.Buckets = io.NewSectionReader(bytes.NewReader(buckets), 0, int64(len(buckets)))
			if !yield(&p, nil) {
				return
			}
		}
	}
}
