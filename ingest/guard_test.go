package ingest

import (
	"bytes"
	"encoding/csv"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/estate"
)

// What is exported is harmless in a spreadsheet, and read back exactly.
func TestExportedCellsAreHarmlessAndReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringMatching(`[=+@\-'\t]{0,2}[a-z =]{0,5}`)
		var all []estate.Workload
		for i := range rapid.IntRange(1, 4).Draw(t, "workloads") {
			w := estate.Workload{ID: text.Draw(t, "id") + string(rune('a'+i)), Name: text.Draw(t, "name"),
				OS: text.Draw(t, "os"), Kind: text.Draw(t, "kind")}
			w.SetTag(estate.Tag{Key: "env", Value: text.Draw(t, "tag"), Source: "x"})
			w.Leases = []estate.Lease{{Addr: netip.AddrFrom4([4]byte{10, 0, 0, byte(i)}), From: estate.Beginning,
				Until: estate.End}}
			all = append(all, w)
		}
		var out bytes.Buffer
		w := csv.NewWriter(&out)
		require.NoError(t, WriteWorkloads(w, all))
		w.Flush()
		rows, err := csv.NewReader(bytes.NewReader(out.Bytes())).ReadAll()
		require.NoError(t, err)
		for _, row := range rows {
			for _, cell := range row {
				require.False(t, cell != "" && strings.ContainsAny(cell[:1], "=+-@\t\r"), cell)
			}
		}
		for _, read := range []func() (*WorkloadFile, error){
			func() (*WorkloadFile, error) { return Workloads(bytes.NewReader(out.Bytes()), "x") },
			func() (*WorkloadFile, error) { return WorkloadsOf(bytes.NewReader(out.Bytes()), "x", Form{}) },
		} {
			got, err := read()
			require.NoError(t, err)
			require.Empty(t, got.Errors)
			require.Empty(t, got.Warnings)
			require.Len(t, got.Workloads, len(all))
			for i, w := range got.Workloads {
				want := all[i]
				have, _ := w.Tag("env")
				said, _ := want.Tag("env")
				require.Equal(t, [5]string{want.ID, want.Name, want.OS, want.Kind, said.Value},
					[5]string{w.ID, w.Name, w.OS, w.Kind, have.Value})
			}
		}
	})
}

func TestCellsOfOthersAreReadAsTheyAre(t *testing.T) {
	got, err := Workloads(strings.NewReader("id,name\na,'=1+1\n"), "x")
	require.NoError(t, err)
	require.Equal(t, "'=1+1", got.Workloads[0].Name)
	var out bytes.Buffer
	w := NewCSV(&out)
	require.NoError(t, w.Write([]string{"=cmd", "-1", "plain", "'x", ""}))
	require.NoError(t, w.Flush())
	require.Equal(t, "'=cmd,'-1,plain,''x,\n", out.String())
}

func TestARowThatNeverEndsIsNoRow(t *testing.T) {
	_, err := WorkloadsOf(strings.NewReader("id,name\na,\""+strings.Repeat("x\n", 20<<20)), "x", Form{})
	require.ErrorContains(t, err, "may lack its closing quote")
	_, err = WorkloadsOf(strings.NewReader(strings.Repeat("x,", 10_000)+"\n"), "x", Form{})
	require.ErrorContains(t, err, "found a header of 10001 columns")
}
