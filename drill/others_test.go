package drill

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly"
	"lucidorchard/collect"
	"lucidorchard/core/flow"
	"lucidorchard/database"
)

// The clock of the database's machine is set to and fro (by libfaketime, which
// this program itself, asking the kernel, does not hear) under edits and imports.
func TestClockOfTheDatabase(t *testing.T) {
	const library = "/usr/lib/x86_64-linux-gnu/faketime/libfaketimeMT.so.1"
	if _, err := os.Stat(library); err != nil {
		t.Skip("THE DATABASE'S CLOCK IS NOT SET: libfaketime is missing")
	}
	n := rounds(t, 3)
	s := newSite(t, folder(t))
	clock := filepath.Join(folder(t), "clock")
	set := func(by string) { require.NoError(t, os.WriteFile(clock, []byte(by), 0o644)) }
	set("+0")
	s.env = []string{"LD_PRELOAD=" + library, "FAKETIME_TIMESTAMP_FILE=" + clock, "FAKETIME_NO_CACHE=1",
		"FAKETIME_DONT_FAKE_MONOTONIC=1"}
	s.start()
	require.Equal(t, 201, s.ask("PUT", "/api/v1/policy/text", "", []byte(`{"text":"layer allowances\n"}`)).status)
	ctx, stop := context.WithCancel(t.Context())
	var group sync.WaitGroup
	var mu sync.Mutex
	edits := s.editing(ctx, &group, "c")
	var files []file
	group.Go(func() {
		s.imports(ctx, 0, func(f file) {
			mu.Lock()
			defer mu.Unlock()
			files = append(files, f)
		})
	})
	for round := range n {
		set([]string{"-3h", "+0", "+40d", "-1d", "+2h"}[round%5])
		time.Sleep(400 * time.Millisecond)
	}
	stop()
	group.Wait()
	s.edited(edits).report(t, "edits with the clock set", n)
	s.settled(files).report(t, "imports with the clock set", n)
}

// settled waits for the jobs of files and counts what became of them.
func (s *site) settled(files []file) *tally {
	states := map[int64]string{}
	for _, f := range files {
		if f.job == 0 {
			continue
		}
		require.Eventually(s.t, func() bool {
			var j struct{ State, Message string }
			s.get(fmt.Sprintf("/api/v1/jobs/%d", f.job), &j)
			states[f.job] = j.State + " " + j.Message
			return j.State != "running"
		}, 60*time.Second, 50*time.Millisecond)
	}
	counts := s.imported()
	c := &tally{}
	for _, f := range files {
		there := 0
		for row := range f.rows {
			n := counts[fmt.Sprintf("10.%d.%d.%d", 10+f.worker, f.n, row)]
			there += min(n, 1)
			c.doubled += max(0, n-1)
		}
		require.Contains(s.t, []int{0, f.rows}, there, "a file is there whole or not at all: %v %s", f, states[f.job])
		if strings.HasPrefix(states[f.job], "done") {
			c.acknowledged++
			if there == 0 {
				c.lost++
			}
		} else if strings.Contains(states[f.job], "nothing") && there > 0 {
			c.falsely++
		}
	}
	return c
}

// The clock of the collector's machine is set to and fro under traffic, and the
// collector is stopped and started in the middle of it.
func TestClockOfTheCollector(t *testing.T) {
	n := rounds(t, 3)
	cluster, err := database.StartCluster(t.Context(), folder(t)+"/data", true)
	require.NoError(t, err)
	defer cluster.Stop()
	db, err := assembly.Open(t.Context(), cluster.URL)
	require.NoError(t, err)
	defer db.Close()
	spool := folder(t)
	var offset atomic.Int64
	start := func() (*collect.Collector, *sender) {
		c, err := collect.Start(t.Context(), collect.Options{Store: db, TCP: []string{"127.0.0.1:0"}, Spool: spool,
			Hold: 100 * time.Millisecond, Every: 50 * time.Millisecond,
			Clock: func() time.Time { return time.Now().Add(time.Duration(offset.Load())) }})
		require.NoError(t, err)
		at, _ := c.Address("tcp")
		return c, &sender{to: at}
	}
	read := func(c *collect.Collector, n int) {
		require.Eventually(t, func() bool {
			var got int64
			for _, e := range c.Exporters() {
				for _, st := range e.Streams {
					got += st.Records
				}
			}
			return got == int64(n)
		}, 20*time.Second, 5*time.Millisecond)
	}
	sent := 0
	var c tally
	for round := range n {
		collector, x := start()
		x.sent = sent
		for k, by := range []time.Duration{0, -2 * time.Hour, 3 * time.Hour, time.Minute, -30 * time.Hour} {
			offset.Store(int64(by))
			for range 5 {
				x.send(20)
			}
			if k == 0 { // a collector that has never seen a right clock cannot know better
				read(collector, x.sent-sent)
			}
			if (round+k)%3 == 0 {
				collector.Drain()
			}
		}
		x.conn.Close()
		read(collector, x.sent-sent)
		sent = x.sent
		collector.Stop()
		c.lost += int(collector.Status().Lost)
	}
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
	seen := map[netip.Addr]int64{}
	for i := range table.Len() {
		b := table.Bucket(i)
		seen[b.Client] += b.Connections
		require.WithinDuration(t, time.Now(), time.Unix(b.First.Sec, 0), time.Hour,
			"a record with a right time stands at it")
	}
	for _, k := range seen {
		c.acknowledged++
		c.doubled += int(k - 1)
	}
	c.lost += sent - c.acknowledged
	c.report(t, "connections with the clock set", n)
}

// Two servers on one database: conflicting edits of one group, one of each pair
// taken; one server is killed while the other runs jobs.
func TestTwoServers(t *testing.T) {
	n := rounds(t, 3)
	cluster, err := database.StartCluster(t.Context(), folder(t)+"/data", false)
	require.NoError(t, err)
	defer cluster.Stop()
	sites := [2]*site{newSite(t, folder(t)), newSite(t, folder(t))}
	for _, s := range sites {
		s.env = []string{"ORCHARD_DATABASE_URL=" + cluster.URL}
		s.start()
	}
	require.Equal(t, 201, sites[0].ask("PUT", "/api/v1/policy/text", "",
		[]byte(`{"text":"group g = env is start\nlayer allowances\n"}`)).status)
	ctx, stop := context.WithCancel(t.Context())
	var group sync.WaitGroup
	var mu sync.Mutex
	var files []file
	edits := map[string]bool{}
	for w, s := range sites {
		group.Go(func() {
			s.imports(ctx, w, func(f file) {
				mu.Lock()
				defer mu.Unlock()
				files = append(files, f)
			})
		})
		group.Go(func() {
			s.edits(ctx, fmt.Sprint(w), func(name string, acknowledged bool) {
				mu.Lock()
				defer mu.Unlock()
				edits[name] = acknowledged
			})
		})
	}
	both := 0
	for round := range n {
		// Two people look at one group, and both change it.
		var p struct {
			Revision   int
			Statements []struct {
				Line       int
				Kind, Name string
				Text       string
			}
		}
		sites[0].get("/api/v1/policy", &p)
		line, was := 0, ""
		for _, st := range p.Statements {
			if st.Name == "g" && st.Kind == "group" {
				line, was = st.Line, st.Text
			}
		}
		var taken atomic.Int32
		var pair sync.WaitGroup
		for k, s := range sites {
			pair.Go(func() {
				id := key()
				for range 200 {
					body, _ := json.Marshal(map[string]any{"revision": p.Revision, "op": "change", "line": line,
						"was": was, "text": fmt.Sprintf("group g = env is r%d-%d", round, k)})
					a := s.ask("POST", "/api/v1/policy/edits", id, body)
					if a.status == 201 {
						taken.Add(1)
						return
					}
					if a.status == 409 && strings.Contains(string(a.body), "It was") {
						return
					}
					time.Sleep(10 * time.Millisecond)
				}
			})
		}
		pair.Wait()
		if taken.Load() != 1 {
			both++
			t.Errorf("round %d: %d of two conflicting edits were taken", round, taken.Load())
		}
		if round%2 == 1 {
			sites[1].kill()
			sites[1].start()
		}
	}
	stop()
	group.Wait()
	c := sites[0].edited(edits)
	c.doubled += both
	c.report(t, "edits of two servers", n)
	sites[0].settled(files).report(t, "imports of two servers", n)
	var jobs struct {
		Collectors []struct{ Name string }
	}
	sites[0].get("/api/v1/exporters", &jobs)
	require.Len(t, jobs.Collectors, 2, "each has its name")
}

// Many import lists of workloads at once: everybody has the addresses and tags
// that were said of them, and no others.
func TestConcurrentImports(t *testing.T) {
	n := rounds(t, 3)
	s := newSite(t, folder(t))
	s.start()
	const workers, each = 6, 30
	var c tally
	for round := range n {
		var group sync.WaitGroup
		for w := range workers {
			group.Go(func() {
				var b strings.Builder
				b.WriteString("id,addresses,tag:me\n")
				for i := range each {
					fmt.Fprintf(&b, "w-%d-%d-%d,10.%d.%d.%d,v-%d-%d-%d\n", w, round, i, 100+w, round, i, w, round, i)
				}
				a := s.ask("POST", fmt.Sprintf("/api/v1/imports/workloads?source=source-%d", w), key(),
					[]byte(b.String()))
				if a.status != 202 {
					t.Errorf("%d %s", a.status, a.body)
				}
			})
			group.Go(func() {
				var any json.RawMessage
				s.get("/api/v1/workloads?limit=5", &any) // a load in between
			})
		}
		group.Wait()
	}
	require.Eventually(t, func() bool {
		var jobs []struct{ State string }
		s.get("/api/v1/jobs", &jobs)
		for _, j := range jobs {
			if j.State == "running" {
				return false
			}
		}
		return true
	}, 60*time.Second, 50*time.Millisecond)
	var text string
	s.get("/api/v1/workloads.csv", &text)
	rows, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	require.NoError(t, err)
	seen := map[string]bool{}
	for _, r := range rows[1:] {
		if seen[r[0]] {
			c.doubled++
		}
		seen[r[0]] = true
		var w, round, i int
		_, err := fmt.Sscanf(r[0], "w-%d-%d-%d", &w, &round, &i)
		require.NoError(t, err)
		if r[2] == fmt.Sprintf("10.%d.%d.%d", 100+w, round, i) && r[7] == strings.Replace(r[0], "w", "v", 1) {
			c.acknowledged++
		} else {
			t.Errorf("it has what was said of another: %v", r)
		}
	}
	c.lost = n*workers*each - c.acknowledged
	c.report(t, "workloads of concurrent imports", n)
}
