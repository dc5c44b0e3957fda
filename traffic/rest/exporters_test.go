package rest_test

import (
	"encoding/json"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly/assemblytest"
)

// What somebody says of an exporter is kept and shown, and can be taken back.
func TestSayingWhereTypesAreWritten(t *testing.T) {
	c := assemblytest.Serve(t)
	state, err := json.Marshal(map[string]any{"addr": "10.9.0.1",
		"streams": []map[string]any{{"protocol": "NetFlow v5", "icmp": "unlearnt"}},
		"unread":  []any{}})
	require.NoError(t, err)
	require.NoError(t, c.DB.SaveExporters(t.Context(), "a collector", json.RawMessage(`{}`),
		map[netip.Addr]json.RawMessage{netip.MustParseAddr("10.9.0.1"): state}))
	type exporter struct {
		Addr, ICMP, ICMPBy string
		Streams            []struct{ ICMP string }
	}
	shown := func() exporter {
		var out struct{ Exporters []exporter }
		require.Equal(t, 200, c.Call("GET", "/api/v1/exporters", nil, &out))
		require.Len(t, out.Exporters, 1)
		return out.Exporters[0]
	}
	say := func(addr, where string) int {
		return c.Call("PUT", "/api/v1/exporters/"+addr+"/icmp", map[string]string{"icmp": where}, nil)
	}
	require.Equal(t, "unlearnt", shown().Streams[0].ICMP)
	require.Empty(t, shown().ICMP)
	require.Less(t, say("10.9.0.1", "source"), 300)
	require.Less(t, say("10.9.0.1", "destination"), 300)
	require.Equal(t, []string{"destination", "tester"}, []string{shown().ICMP, shown().ICMPBy})
	require.Equal(t, 422, say("10.9.0.1", "somewhere"))
	require.Equal(t, 422, say("gate", "source"))
	require.Equal(t, "destination", shown().ICMP)
	require.Less(t, say("10.9.0.1", ""), 300)
	require.Empty(t, shown().ICMP)
}
