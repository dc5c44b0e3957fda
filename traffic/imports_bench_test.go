package traffic_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"lucidorchard/assembly"
	"lucidorchard/assembly/assemblytest"
	"lucidorchard/database/databasetest"
	"lucidorchard/imports"
)

// flowFile writes a file of flows: calls between machines of which few are busy, over two
// weeks, in the order of time or not.
func flowFile(t testing.TB, rows int, shuffled bool) *imports.File {
	t.Helper()
	r := rand.New(rand.NewPCG(5, uint64(rows)))
	start := time.Date(2026, 11, 9, 0, 0, 0, 0, time.UTC)
	busy := func(n int) int { return int(float64(n) * r.Float64() * r.Float64() * r.Float64()) }
	var b bytes.Buffer
	b.WriteString("start,end,client,server,protocol,port,bytes,packets,connections,outcome\n")
	for i := range rows {
		at := start.Add(time.Duration(i) * (14 * 24 * time.Hour / time.Duration(rows)))
		if shuffled {
			at = start.Add(time.Duration(r.Int64N(int64(14 * 24 * time.Hour))))
		}
		c, s := busy(4000), busy(800)
		fmt.Fprintf(&b, "%s,%s,10.20.%d.%d,10.30.%d.%d,tcp,%d,%d,%d,%d,carried\n", at.Format(time.RFC3339),
			at.Add(time.Duration(r.IntN(90))*time.Second).Format(time.RFC3339), c>>8, c&255, s>>8, s&255,
			[]int{443, 5432, 8443, 9092}[s%4], 200+r.IntN(90_000), 2+r.IntN(60), 1+r.IntN(3))
	}
	path := filepath.Join(t.TempDir(), "flows.csv")
	require.NoError(t, os.WriteFile(path, b.Bytes(), 0o600))
	sum := sha256.Sum256(b.Bytes())
	return &imports.File{Path: path, Size: int64(b.Len()), Sum: hex.EncodeToString(sum[:]),
		Head: b.Bytes()[:min(512, b.Len())]}
}

// BenchmarkImport imports a million rows into PostgreSQL as the interface does, and says how
// long that takes beside what COPY alone takes for the same rows into tables with the same
// indexes. steady is the largest difference of the progress that is told from that of a
// clock, in percent of the whole.
func BenchmarkImport(b *testing.B) {
	const rows = 1_000_000
	for _, shuffled := range []bool{false, true} {
		b.Run(map[bool]string{false: "inOrderOfTime", true: "shuffled"}[shuffled], func(b *testing.B) {
			for range b.N {
				database := databasetest.Database(b)
				db, err := assembly.Open(b.Context(), database)
				require.NoError(b, err)
				ctx, cancel := context.WithCancel(b.Context())
				a := assembly.New(ctx, assembly.Options{Store: db, Author: "me", Log: assemblytest.NoLog})
				file := flowFile(b, rows, shuffled)
				m, err := a.Models.Current(ctx)
				require.NoError(b, err)
				start := time.Now()
				job, err := a.Traffic.ImportFlows(ctx, m, file, imports.ImportOptions{Name: "flows.csv"})
				require.NoError(b, err)
				type told struct {
					at   time.Duration
					done float64
				}
				var way []told
				for job.State == "running" {
					time.Sleep(20 * time.Millisecond)
					job, err = db.Job(ctx, job.ID)
					require.NoError(b, err)
					job = a.Live(job)
					way = append(way, told{time.Since(start), job.Done})
				}
				took := time.Since(start)
				require.Equal(b, "done", job.State, job.Message)
				uneven := 0.0
				for _, x := range way {
					uneven = max(uneven, x.at.Seconds()/took.Seconds()-x.done, x.done-x.at.Seconds()/took.Seconds())
				}
				cancel()
				a.Wait()
				db.Close()
				alone := copyAlone(b, database)
				b.ReportMetric(rows/took.Seconds(), "rows/s")
				b.ReportMetric(took.Seconds()/alone.Seconds(), "timesCOPY")
				b.ReportMetric(100*uneven, "%uneven")
			}
		})
	}
}

// copyAlone stores what is stored once more, with nothing but COPY.
func copyAlone(b *testing.B, database string) (took time.Duration) {
	ctx := b.Context()
	conn, err := pgx.Connect(ctx, database)
	require.NoError(b, err)
	defer conn.Close(ctx)
	for _, table := range []string{"records", "conversations"} {
		var rows bytes.Buffer
		_, err := conn.PgConn().CopyTo(ctx, &rows, `COPY (SELECT * FROM `+table+`) TO STDOUT (FORMAT binary)`)
		require.NoError(b, err)
		_, err = conn.Exec(ctx, `CREATE TABLE again_`+table+` (LIKE `+table+` INCLUDING ALL)`)
		require.NoError(b, err)
		start := time.Now()
		_, err = conn.PgConn().CopyFrom(ctx, &rows, `COPY again_`+table+` FROM STDIN (FORMAT binary)`)
		require.NoError(b, err)
		took += time.Since(start)
	}
	return took
}
