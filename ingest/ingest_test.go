package ingest_test

import (
	"bytes"
	"encoding/csv"
	"errors"
	"io"
	"math"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
	"lucidorchard/ingest"
)

func workloads(t *testing.T, text string) *ingest.WorkloadFile {
	f, err := ingest.Workloads(strings.NewReader(text), "sheet")
	require.NoError(t, err)
	return f
}

func TestWorkloads(t *testing.T) {
	f := workloads(t, "\ufeffid,tag:env,addresses,from,until,colour,name,tag:cost centre,tag:\r\n"+
		"w1,live,10.0.0.1\t fd00::1 ,,2026-01-02T00:00:00Z,red,\"a \"\"quoted\"\" name\",K 7,x\r\n\r\n"+
		" w1 ,,,,,,,,\r\n"+
		"w1,,10.0.0.9,2026-01-02T00:00:00Z,,,,K 7,\r\n")
	require.Empty(t, f.Errors)
	require.Equal(t, 3, f.Rows)
	require.Equal(t, []string{`column "colour" is not known and was ignored`,
		`column "tag:" is not known and was ignored`}, f.Warnings)
	require.Len(t, f.Workloads, 2, "cells are not trimmed: an id with blanks is another")
	w := f.Workloads[0]
	require.Equal(t, `a "quoted" name`, w.Name)
	require.Equal(t, []estate.Tag{{Key: "cost centre", Value: "K 7", Source: "sheet"},
		{Key: "env", Value: "live", Source: "sheet"}}, w.Tags)
	end := estate.Instant{Sec: 1767312000}
	require.Equal(t, []estate.Lease{
		{Addr: netip.MustParseAddr("10.0.0.1"), From: estate.Beginning, Until: end},
		{Addr: netip.MustParseAddr("fd00::1"), From: estate.Beginning, Until: end},
		{Addr: netip.MustParseAddr("10.0.0.9"), From: end, Until: estate.End},
	}, w.Leases)
}

func TestWorkloadsWithBadRows(t *testing.T) {
	f := workloads(t, "id,name,addresses,from,tag:env\n"+
		"w1,a,10.0.0.1,,live\n"+
		",b,10.0.0.2,,live\n"+ // 3
		"w2,b,10.0.0,,live\n"+ // 4
		"w3,c,fe80::1%eth0,,live\n"+ // 5
		"w4,d,,yesterday,live\n"+ // 6
		"w5,e,10.0.0.5\n"+ // 7
		"w1,other,10.0.0.6,,\n"+ // 8
		"w1,,10.0.0.7,,trial\n"+ // 9
		"w6,f,10.0.0.1,,live\n"+ // 10
		"w7,g,10.0.0.8,,\"li\"ve\n"+ // 11
		"w8,h,10.0.0.9,,\xff\n"+ // 12
		"w9,i,\"10.0.0.10\n10.0.0.11\",,live\n"+ // 13, over two lines
		"w10,j,10.0.0.12,,live\n")
	var lines []int
	for _, e := range f.Errors {
		lines = append(lines, e.Line)
		require.NotEmpty(t, e.Reason)
	}
	require.Equal(t, []int{3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13}, lines)
	var ids []string
	for _, w := range f.Workloads {
		ids = append(ids, w.ID)
	}
	require.Equal(t, []string{"w1", "w6", "w10"}, ids)
	require.Empty(t, f.Workloads[1].Leases, "the later of two claims is left out")
}

func TestFilesThatCannotBeUsed(t *testing.T) {
	for text, want := range map[string]string{
		"":                      "1: found an empty file",
		"\n\n":                  "1: found an empty file",
		"name,addresses\nx,y\n": "1: column id: found the header",
		"ID\nx\n":               "1: column id", // header names mind case
		"id,name,id\n":          "1: column id: found the column twice",
		"id,\xff\n":             "1: found a header that is not UTF-8",
		"id,\"name\nx,y\n":      "1: found a",
	} {
		_, err := ingest.Workloads(strings.NewReader(text), "s")
		require.ErrorContains(t, err, want, "%q", text)
	}
}

// read returns the records and the errors of a flows file.
func read(t require.TestingT, text string) (rs []flow.Record, bad []ingest.RowError) {
	f, err := ingest.NewFlows(strings.NewReader(text))
	require.NoError(t, err)
	for {
		r, err := f.Next()
		if err == io.EOF {
			return rs, bad
		}
		var e *ingest.RowError
		if errors.As(err, &e) {
			bad = append(bad, *e)
			continue
		}
		require.NoError(t, err)
		rs = append(rs, r)
	}
}

func TestFlowCells(t *testing.T) {
	head := "start,src,dst,proto,dport,end,sport,bytes,packets,connections,outcome,observer\n"
	cell := map[string]int{}
	for i, name := range strings.Split(strings.TrimSpace(head), ",") {
		cell[name] = i
	}
	row := func(changes ...string) string {
		cells := strings.Split("2026-11-20T00:00:00Z,10.0.0.1,10.0.0.2,tcp,443,,,,,,,", ",")
		for i := 0; i < len(changes); i += 2 {
			cells[cell[changes[i]]] = changes[i+1]
		}
		return head + strings.Join(cells, ",") + "\n"
	}
	for _, c := range []struct {
		changes []string
		check   func(flow.Record) bool
	}{
		{nil, func(r flow.Record) bool {
			return r.Connections == 1 && r.End == r.Start && r.Outcome == flow.Unknown &&
				r.Point == service.PointOf(service.TCP, 443)
		}},
		{[]string{"proto", "TcP"}, func(r flow.Record) bool { return r.Point.Proto() == service.TCP }},
		{[]string{"proto", "006", "dport", "0443"},
			func(r flow.Record) bool { return r.Point == service.PointOf(service.TCP, 443) }},
		{[]string{"dport", ""}, func(r flow.Record) bool { return r.Point == service.PointOf(service.TCP, 0) }},
		{[]string{"proto", "icmp", "dport", ""},
			func(r flow.Record) bool { return r.Point == service.PointOf(service.ICMP, service.UnknownType) }},
		{[]string{"proto", "icmp6", "dport", "32769"},
			func(r flow.Record) bool { return r.Point == service.PointOf(service.ICMP6, 128<<8|1) }},
		{[]string{"proto", "47", "dport", "12"},
			func(r flow.Record) bool { return r.Point == service.PointOf(47, 0) }},
		{[]string{"proto", "255", "dport", ""}, func(r flow.Record) bool { return r.Point.String() == "proto/255" }},
		{[]string{"src", "::ffff:10.0.0.1"},
			func(r flow.Record) bool { return r.Client == netip.MustParseAddr("10.0.0.1") }},
		// accepted
		{[]string{"end", "2026-11-19T00:00:00Z"}, func(r flow.Record) bool { return r.End.Before(r.Start) }},
		{[]string{"bytes", "9223372036854775807", "packets", "00", "connections", "0"}, func(r flow.Record) bool {
			return r.Bytes == math.MaxInt64 && r.Packets == 0 && r.Connections == 0
		}},
		{[]string{"outcome", "dropped", "observer", "leaf 1", "sport", "65535"}, func(r flow.Record) bool {
			return r.Outcome == flow.Dropped && r.Observer == "leaf 1" && r.SourcePort == 65535
		}},
	} {
		rs, bad := read(t, row(c.changes...))
		require.Empty(t, bad, c.changes)
		require.True(t, c.check(rs[0]), "%v: %+v", c.changes, rs[0])
	}
	for _, c := range [][2]string{
		{"start", ""}, {"start", "2026-11-20"}, {"start", " 2026-11-20T00:00:00Z"}, {"src", ""}, {"src", "host"},
		{"dst", "10.0.0.1/32"}, {"dst", "10.0.0.01"}, {"src", "fe80::1%1"},
		{"proto", ""}, {"proto", "256"}, {"proto", "gre"}, {"proto", "-1"}, {"proto", "+6"}, {"dport", "65536"},
		{"dport", "80.0"}, {"dport", " 80"}, {"dport", "0x50"},
		{"end", "soon"}, {"sport", "65536"}, {"bytes", "9223372036854775808"}, {"bytes", "1.5"}, {"packets", "-1"},
		{"connections", "many"}, {"outcome", "Carried"}, {"outcome", "lost"},
	} {
		rs, bad := read(t, row(c[0], c[1]))
		require.Empty(t, rs, c)
		require.Equal(t, c[0], bad[0].Column, c)
		require.Equal(t, 2, bad[0].Line)
		require.Contains(t, bad[0].Error(), "2: column "+c[0]+": found")
	}
	_, bad := read(t, row("proto", "47", "dport", "65536"))
	require.Len(t, bad, 1, "too large a port is one in any protocol")
}

func TestFlowRowsGoOn(t *testing.T) {
	text := "start,src,dst,proto,dport\n" +
		"2026-11-20T00:00:00Z,10.0.0.1,10.0.0.2,tcp,1\n" +
		"2026-11-20T00:00:00Z,10.0.0.1,10.0.0.2,tcp\n" +
		"2026-11-20T00:00:00Z,10.0.0.1,10.0.0.2,tcp,1,2\n" +
		"2026-11-20T00:00:00Z,\"10.0.0\".1,10.0.0.2,tcp,1\n" +
		"\n" +
		"2026-11-20T00:00:00Z,\"10.0.0.1\",10.0.0.2,tcp,2\n"
	rs, bad := read(t, text)
	require.Len(t, rs, 2)
	require.Len(t, bad, 3)
	require.Equal(t, []int{3, 4, 5}, []int{bad[0].Line, bad[1].Line, bad[2].Line})
}

func TestWhatIsWrittenIsReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e := sample.Estate(t)
		all := e.Workloads()
		for i := range all {
			all[i].SetTag(estate.Tag{Key: "note", Value: rapid.StringMatching(`[ -~é]{0,12}`).Draw(t, "note")})
		}
		var b bytes.Buffer
		w := csv.NewWriter(&b)
		require.NoError(t, ingest.WriteWorkloads(w, all))
		w.Flush()
		f, err := ingest.Workloads(&b, "")
		require.NoError(t, err)
		require.Empty(t, f.Errors)
		require.Len(t, f.Workloads, e.Len())
		for i, have := range f.Workloads {
			want := all[i]
			require.Equal(t, [3]string{want.ID, want.Name, want.OS}, [3]string{have.ID, have.Name, have.OS})
			require.Equal(t, want.Tags, have.Tags)
			require.ElementsMatch(t, want.Leases, have.Leases)
		}
	})
}

func FuzzFlows(f *testing.F) {
	f.Add("start,src,dst,proto,dport,connections\n2026-11-20T00:00:00Z,10.0.0.1,::1,icmp,,7\n\"\n")
	f.Add("\ufeffstart,src,dst,proto,dport\r\n,,,,\r\n")
	f.Fuzz(func(t *testing.T, text string) {
		r, err := ingest.NewFlows(strings.NewReader(text))
		if err != nil {
			return
		}
		for rows := 1; ; rows++ {
			rec, err := r.Next()
			if err == io.EOF {
				return
			}
			var bad *ingest.RowError
			if errors.As(err, &bad) {
				require.Positive(t, bad.Line)
				require.NotEmpty(t, bad.Reason)
				continue
			}
			require.NoError(t, err)
			require.Equal(t, rows, r.Row())
			require.True(t, rec.Client.IsValid() && rec.Server.IsValid() && !rec.Client.Is4In6())
		}
	})
}
