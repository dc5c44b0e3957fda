package main

import (
	"bufio"
	"encoding/csv"
	"fmt"
	"io"
	"math/rand/v2"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/flow"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
	"lucidorchard/ingest"
)

// The whole command on 100,000 workloads, 1,000 rules and a million flows, and
// how many times longer it takes than programs that only read the same files:
// one that parses the cells' addresses, times and numbers, and one that only cuts
// the lines into cells.
func BenchmarkCheck(b *testing.B) {
	dir := b.TempDir()
	name := func(s string) string { return filepath.Join(dir, s) }
	e, text := sample.Large(100_000, 400, 1000)
	write := func(file string, f func(w *csv.Writer)) {
		out, err := os.Create(name(file))
		require.NoError(b, err)
		w := csv.NewWriter(bufio.NewWriterSize(out, 1<<20))
		f(w)
		w.Flush()
		require.NoError(b, w.Error())
		require.NoError(b, out.Close())
	}
	write("workloads.csv", func(w *csv.Writer) { require.NoError(b, ingest.WriteWorkloads(w, e.Workloads())) })
	require.NoError(b, os.WriteFile(name("policy.orchard"), []byte(text), 0o644))
	write("flows.csv", func(w *csv.Writer) {
		r := rand.New(rand.NewPCG(1, 2))
		_ = w.Write([]string{"start", "end", "src", "dst", "proto", "sport", "dport", "bytes", "packets",
			"connections", "outcome", "observer"})
		for i := range 1_000_000 {
			at := time.Date(2026, 11, 16, 0, 0, i%600_000, 0, time.UTC).Format(time.RFC3339)
			_ = w.Write([]string{at, at, sample.LargeAddr(r.IntN(100_000)).String(),
				sample.LargeAddr(r.IntN(100_000)).String(), "tcp", fmt.Sprint(1024 + r.IntN(60000)),
				fmt.Sprint(uint32(sample.LargePoint(r)) & 0xffff), "5120", "9", "1", "carried", "tap-1"})
		}
	})
	in := inputs{workloads: name("workloads.csv"), policy: name("policy.orchard"), flows: name("flows.csv"),
		asOf: "2026-11-18T00:00:00Z"}

	start := time.Now()
	for _, f := range []string{in.workloads, in.flows} {
		cut(b, f, func([]string) {})
	}
	cells := time.Since(start)
	start = time.Now()
	cut(b, in.workloads, func(row []string) { _, _ = netip.ParseAddr(row[2]) })
	cut(b, in.flows, parse)
	parsed := time.Since(start)
	b.ResetTimer()
	for b.Loop() {
		require.NoError(b, check(in, checkOptions{out: name("out.csv"), summary: name("summary.json")}))
	}
	each := float64(b.Elapsed()) / float64(b.N)
	b.ReportMetric(each/float64(parsed), "×parse-only")
	b.ReportMetric(each/float64(cells), "×cut-only")
}

func cut(b *testing.B, name string, f func(row []string)) {
	file, err := os.Open(name)
	require.NoError(b, err)
	defer file.Close()
	r := csv.NewReader(bufio.NewReaderSize(file, 1<<16))
	r.ReuseRecord = true
	for n := 0; ; n++ {
		row, err := r.Read()
		if err == io.EOF {
			return
		}
		require.NoError(b, err)
		if n > 0 {
			f(row)
		}
	}
}

// parse makes a record of a row without checking anything.
func parse(row []string) {
	var r flow.Record
	for i := range 2 {
		_, _ = time.Parse(time.RFC3339Nano, row[i])
	}
	r.Client, _ = netip.ParseAddr(row[2])
	r.Server, _ = netip.ParseAddr(row[3])
	port, _ := strconv.Atoi(row[6])
	r.Point = service.PointOf(service.TCP, uint32(port))
	r.Bytes, _ = strconv.ParseInt(row[7], 10, 64)
	r.Packets, _ = strconv.ParseInt(row[8], 10, 64)
	r.Connections, _ = strconv.ParseInt(row[9], 10, 64)
}
