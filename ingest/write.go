package ingest

import (
	"encoding/csv"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

// WriteWorkloads writes a workloads CSV that Workloads reads back. Leases with
// one span share a row. Where a cell could be taken for a formula, cells are
// guarded, and a column says so.
func WriteWorkloads(w *csv.Writer, workloads []estate.Workload) error {
	keys := map[string]bool{}
	for _, wl := range workloads {
		for _, t := range wl.Tags {
			keys[t.Key] = true
		}
	}
	tags := slices.Sorted(maps.Keys(keys))
	header := []string{"id", "name", "addresses", "os", "kind", "from", "until"}
	for _, k := range tags {
		header = append(header, "tag:"+k)
	}
	guarded := slices.ContainsFunc(workloads, func(wl estate.Workload) bool {
		for _, text := range []string{wl.ID, wl.Name, wl.OS, wl.Kind} {
			if guard(text) != text {
				return true
			}
		}
		return slices.ContainsFunc(wl.Tags, func(t estate.Tag) bool { return guard(t.Value) != t.Value })
	})
	if guarded {
		header = append(header, guardColumn)
	}
	if err := w.Write(header); err != nil {
		return err
	}
	for i := range workloads {
		wl := &workloads[i]
		type span struct{ from, until estate.Instant }
		var spans []span
		addrs := map[span][]string{}
		for _, l := range wl.Leases {
			s := span{l.From, l.Until}
			if addrs[s] == nil {
				spans = append(spans, s)
			}
			addrs[s] = append(addrs[s], l.Addr.String())
		}
		if len(spans) == 0 {
			spans = []span{{estate.Beginning, estate.End}}
		}
		for _, s := range spans {
			row := []string{wl.ID, wl.Name, strings.Join(addrs[s], " "), wl.OS, wl.Kind, bound(s.from),
				bound(s.until)}
			for _, k := range tags {
				t, _ := wl.Tag(k)
				row = append(row, t.Value)
			}
			if guarded {
				for i := range row {
					row[i] = guard(row[i])
				}
				row = append(row, guardedRow)
			}
			if err := w.Write(row); err != nil {
				return err
			}
		}
	}
	return nil
}

func bound(t estate.Instant) string {
	if !t.IsBound() {
		return ""
	}
	return t.Time().Format(time.RFC3339Nano)
}

// FlowHeader is the header of a flows CSV as FlowRow writes its rows.
var FlowHeader = []string{"start", "end", "src", "sport", "dst", "proto", "dport", "bytes", "packets", "connections",
	"outcome", "observer"}

// FlowRow returns the cells of one record.
func FlowRow(r flow.Record) []string {
	proto, port := r.Point.Proto(), ""
	name := service.ProtoName(proto)
	if !service.HasPorts(proto) {
		name = strconv.Itoa(int(proto))
	} else if r.Point.Port() != service.UnknownType {
		port = strconv.Itoa(int(r.Point.Port()))
	}
	sport := ""
	if r.SourcePort != 0 {
		sport = strconv.Itoa(int(r.SourcePort))
	}
	n := func(v int64) string { return strconv.FormatInt(v, 10) }
	return []string{bound(r.Start), bound(r.End), r.Client.String(), sport, r.Server.String(), name, port, n(r.Bytes),
		n(r.Packets), n(r.Connections), r.Outcome.String(), r.Observer}
}
