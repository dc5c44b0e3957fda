package collect

import (
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/database"
	"lucidorchard/database/databasetest"
	"lucidorchard/traffic/rows"
	trafficsql "lucidorchard/traffic/sql"
)

// small mounts a file system of little room.
func small(t *testing.T, size string) string {
	dir := t.TempDir()
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, "size="+size); err != nil {
		t.Skipf("no file system of its own can be mounted here (%v): a full disk is not tried", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(dir, 0) })
	return dir
}

func one(n int, observer string) flow.Joined {
	at := estate.Instant{Sec: 1_795_000_000}
	return flow.Joined{Record: flow.Record{Start: at, End: at,
		Client: netip.AddrFrom4([4]byte{10, 0, byte(n >> 8), byte(n)}), Server: netip.MustParseAddr("10.1.0.1"),
		Point:       service.PointOf(6, 443),
		Connections: 1, Bytes: 10, Packets: 1, Observer: observer}, Confidence: 100, Observers: [2]int32{-1, -1}}
}

func TestASpoolThatIsRefusedRoomDoesNotGrow(t *testing.T) {
	s, err := openSpool(small(t, "256k"), 1<<30)
	require.NoError(t, err)
	defer s.close()
	var opened []flow.Open
	var records []flow.Joined
	for n := range 400 {
		opened = append(opened, flow.Open{Client: netip.AddrFrom4([4]byte{10, 0, 1, byte(n)}),
			Server: netip.MustParseAddr("10.1.0.1"), ClientPort: uint16(n + 1), ServerPort: 443, Proto: 6})
		records = append(records, one(n, "x"))
	}
	b := rows.BatchOf("", records, nil)
	fill := filepath.Join(s.folder, "somebody else's")
	require.Error(t, os.WriteFile(fill, make([]byte, 1<<20), 0o600), "the disk is full")
	require.NoError(t, os.Truncate(fill, 128<<10)) // enough for the sessions, not for the batch
	for range 5 {
		require.ErrorIs(t, s.put(&b, opened, false), syscall.ENOSPC)
	}
	require.Empty(t, s.readOpen())
	entries, err := os.ReadDir(s.folder)
	require.NoError(t, err)
	for _, e := range entries {
		require.NotContains(t, e.Name(), ".batch")
	}
	require.NoError(t, os.Remove(fill))
	require.NoError(t, s.put(&b, opened, false))
	require.Equal(t, opened, s.readOpen(), "each once")
	e, err := s.next()
	require.NoError(t, err)
	require.Equal(t, len(records), e.Count)
}

// joined starts a collector with a joiner of its own, without sockets.
func joined(t *testing.T, o Options) (*Collector, *trafficsql.Store) {
	opened, err := database.Open(t.Context(), databasetest.Database(t))
	require.NoError(t, err)
	t.Cleanup(func() { opened.Close() })
	db := &trafficsql.Store{DB: opened}
	o.Store, o.Hold, o.Every = db, 200*time.Millisecond, 100*time.Millisecond
	if o.Spool == "" {
		o.Spool = t.TempDir()
	}
	c, err := Start(t.Context(), o)
	require.NoError(t, err)
	return c, db
}

func (c *Collector) observe(from, to int) {
	var all []flow.Observation
	for n := from; n < to; n++ {
		all = append(all, flow.Observation{Src: netip.AddrFrom4([4]byte{10, 0, byte(n >> 8), byte(n)}),
			Dst: netip.MustParseAddr("10.1.0.1"), SrcPort: 40_000, DstPort: 443, Proto: 6, Start: c.clock.day(),
			End: c.clock.day(), Packets: 1, Bytes: 10})
	}
	c.gauge.add(gaugeDecoded, int64(len(all)))
	c.joined <- observations{all: all}
}

func connections(t *testing.T, db *trafficsql.Store) (n int64) {
	hours, err := db.Hours(t.Context())
	require.NoError(t, err)
	table := flow.NewTable()
	var all []flow.Hour
	for h := range hours {
		all = append(all, h)
	}
	chunks, _, err := db.Chunks(t.Context(), all, table.Dict)
	require.NoError(t, err)
	table = table.With(chunks, nil)
	for i := range table.Len() {
		n += table.Bucket(i).Connections
	}
	return n
}

func TestAClockThatIsSetHoldsNothingUp(t *testing.T) {
	var offset atomic.Int64
	c, db := joined(t, Options{Clock: func() time.Time { return time.Now().Add(time.Duration(offset.Load())) }})
	c.observe(0, 500)
	offset.Store(int64(-3 * time.Hour))
	c.observe(500, 1000)
	require.Eventually(t, func() bool { return c.Status().Records == 1000 }, 10*time.Second, 20*time.Millisecond,
		"it does not wait for the old time")
	require.Eventually(t, func() bool { return c.Status().Jump != nil }, 10*time.Second, 20*time.Millisecond)
	require.InDelta(t, -3*3600, c.Status().Jump.Seconds, 2)
	offset.Store(int64(24 * time.Hour))
	c.observe(1000, 1500)
	offset.Store(int64(-24 * time.Hour))
	c.observe(1500, 2000)
	c.Stop() // at once: what waits is sent off
	require.Equal(t, int64(2000), connections(t, db))
	require.Zero(t, c.Status().Lost)
	require.Zero(t, c.Status().Waiting)
}

func TestABatchThatTheDatabaseRefusesIsSetAside(t *testing.T) {
	spool := t.TempDir()
	s, err := openSpool(spool, 1<<30)
	require.NoError(t, err)
	for _, b := range []rows.Batch{
		rows.BatchOf("", []flow.Joined{one(1, "x")}, nil),
		rows.BatchOf("", []flow.Joined{one(2, "x"), one(3, "a\x00b")}, nil), // no text for PostgreSQL
		rows.BatchOf("", []flow.Joined{one(4, "x")}, nil),
	} {
		require.NoError(t, s.put(&b, nil, false))
	}
	s.close()
	c, db := joined(t, Options{Spool: spool})
	require.Eventually(t, func() bool { return c.Status().Spooled == 0 && c.Status().SetAside == 1 }, 20*time.Second,
		20*time.Millisecond)
	c.observe(10, 20)
	c.Stop()
	require.Equal(t, int64(12), connections(t, db), "the rest goes on")
	all, err := db.RefusedBatches(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 1)
	require.Equal(t, 2, all[0].Rows)
	require.Equal(t, c.Name, all[0].Collector)
	require.Contains(t, all[0].Reason, "invalid byte sequence")
	text, err := db.RefusedRecords(t.Context(), all[0].ID)
	require.NoError(t, err)
	require.Equal(t, 3, strings.Count(string(text), "\n"))
	require.Contains(t, string(text), "10.0.0.3,,10.1.0.1,tcp,443,")
	found, err := db.DropRefused(t.Context(), all[0].ID)
	require.NoError(t, err)
	require.True(t, found)
}

func TestCollectorsHaveNamesOfTheirOwn(t *testing.T) {
	one, two := t.TempDir(), t.TempDir()
	a, _ := joined(t, Options{Spool: one})
	b, _ := joined(t, Options{Spool: two})
	require.NotEqual(t, a.Name, b.Name)
	name := a.Name
	a.Stop()
	b.Stop()
	a, _ = joined(t, Options{Spool: one})
	require.Equal(t, name, a.Name, "it keeps its name")
	a.Stop()
}

func TestTheGaugeSurvivesTheProgram(t *testing.T) {
	dir := t.TempDir()
	g, was, err := openGauge(dir)
	require.NoError(t, err)
	require.Zero(t, was)
	g.add(gaugePackets, 30)
	g.add(gaugeDecoded, 7)
	g.set(gaugeJoined, 5)
	g.close() // as if it were killed: nothing is reset
	g, was, err = openGauge(dir)
	require.NoError(t, err)
	require.Equal(t, int64(42), was)
	require.Zero(t, g.sum())
	g.close()
	_, _, err = openGauge(filepath.Join(dir, "nowhere"))
	require.Error(t, err)
	require.True(t, errors.Is(err, os.ErrNotExist), fmt.Sprint(err))
}
