package decide

import (
	"fmt"
	"runtime"
	"runtime/debug"
	"sync"
	"sync/atomic"

	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

// Columns is conversations in columns, one a row.
type Columns struct {
	Client, Server []int32         // rows of the ends
	Point          []service.Point // the service
	Connections    []int64
	// When[Starts[i]:Starts[i+1]] is the time bins in which row i was active, in
	// rising order; without Starts there is no time.
	Starts []int32
	When   []int32
}

// Ends has for each end its class, and the group (any small number from 0) that
// the totals by pair count it under.
type Ends struct {
	Class []int32
	Group []int32 // nil: no totals by pair
}

// Counts has a number for each verdict.
type Counts [3]int

// Sum adds the numbers up.
func (c Counts) Sum() int { return c[0] + c[1] + c[2] }

func (c *Counts) add(d Counts) {
	for v, n := range d {
		c[v] += n
	}
}

// Tally is what a pass over columns counts.
type Tally struct {
	Rows        Counts
	Connections [3]int64
	Rules       []int               // rows by the index of the deciding rule
	Bins        []Counts            // rows that were active, by time bin
	Pairs       map[[2]int32]Counts // rows by the groups of client and server
}

// stretch is how many rows one step of a pass decides.
const stretch = 1 << 15

// Evaluate decides every row, on all processors, and counts in the same pass.
// It writes the index of the deciding rule, or -1, into rules, which has a place
// for each row. bins is one more than the highest time bin.
func (c *Compiled) Evaluate(cols Columns, ends Ends, rules []int32, bins int) Tally {
	verdicts := c.verdicts()
	groups := int32(0)
	for _, g := range ends.Group {
		groups = max(groups, g+1)
	}
	parts := (len(cols.Client) + stretch - 1) / stretch
	tallies := make([]*tally, min(runtime.GOMAXPROCS(0), max(1, parts)))
	Parallel(len(tallies), parts, func(worker, p int) {
		if tallies[worker] == nil {
			tallies[worker] = newTally(len(c.Policy.Rules), bins, groups)
		}
		t := tallies[worker]
		from, to := p*stretch, min((p+1)*stretch, len(cols.Client))
		c.rules.decideAll(Columns{Client: cols.Client[from:to], Server: cols.Server[from:to],
			Point: cols.Point[from:to]}, ends.Class, rules[from:to])
		for i := from; i < to; i++ {
			a, b, r := cols.Client[i], cols.Server[i], rules[i]
			t.count(&cols, i, r, verdicts[r+1])
			if ends.Group != nil {
				t.pair(ends.Group[a], ends.Group[b], verdicts[r+1])
			}
		}
	})
	return sum(tallies, len(c.Policy.Rules), bins)
}

// Verdicts decides every row on the caller's processor and counts nothing: it
// writes the index of the deciding rule, or -1, into rules. classes is by end.
func (c *Compiled) Verdicts(cols Columns, classes, rules []int32) {
	c.rules.decideAll(cols, classes, rules)
}

// Lookups does the look-ups of Verdicts without deciding: what the memory allows.
func (c *Compiled) Lookups(cols Columns, classes []int32) {
	var l lookups
	for from := 0; from < len(cols.Client); from += block {
		to := min(from+block, len(cols.Client))
		l.find(c.rules, cols.Client[from:to], cols.Server[from:to], classes)
	}
}

// verdicts returns the verdict of no rule, and then of each rule.
func (c *Compiled) verdicts() []Verdict {
	out := make([]Verdict, len(c.Policy.Rules)+1)
	for i, r := range c.Policy.Rules {
		out[i+1] = VerdictOf(r)
	}
	return out
}

// tally is a Tally in the making, by one worker.
type tally struct {
	Tally
	groups int32
	dense  []int32 // by client's group, server's group and verdict
}

// densest is up to how many groups the totals by pair are kept in a table.
const densest = 1024

func newTally(rules, bins int, groups int32) *tally {
	t := &tally{Tally: Tally{Rules: make([]int, rules), Bins: make([]Counts, bins)}, groups: groups}
	if groups > 0 && groups <= densest {
		t.dense = make([]int32, groups*groups*3)
	}
	return t
}

func (t *tally) count(cols *Columns, i int, rule int32, v Verdict) {
	t.Rows[v]++
	if cols.Connections != nil {
		t.Connections[v] = flow.Sum(t.Connections[v], cols.Connections[i])
	}
	if rule >= 0 {
		t.Rules[rule]++
	}
	if cols.Starts != nil {
		last := int32(-1)
		for _, bin := range cols.When[cols.Starts[i]:cols.Starts[i+1]] {
			if bin != last {
				t.Bins[bin][v]++
				last = bin
			}
		}
	}
}

func (t *tally) pair(a, b int32, v Verdict) {
	if t.dense != nil {
		t.dense[(a*t.groups+b)*3+int32(v)]++
		return
	}
	if t.Pairs == nil {
		t.Pairs = map[[2]int32]Counts{}
	}
	k := [2]int32{a, b}
	n := t.Pairs[k]
	n[v]++
	t.Pairs[k] = n
}

func sum(tallies []*tally, rules, bins int) Tally {
	out := Tally{Rules: make([]int, rules), Bins: make([]Counts, bins), Pairs: map[[2]int32]Counts{}}
	for _, t := range tallies {
		if t == nil {
			continue
		}
		out.Rows.add(t.Rows)
		for v, n := range t.Connections {
			out.Connections[v] = flow.Sum(out.Connections[v], n)
		}
		for r, n := range t.Rules {
			out.Rules[r] += n
		}
		for b, n := range t.Bins {
			out.Bins[b].add(n)
		}
		for k, n := range t.Pairs {
			have := out.Pairs[k]
			have.add(n)
			out.Pairs[k] = have
		}
		for i := 0; i < len(t.dense); i += 3 {
			if n := (Counts{int(t.dense[i]), int(t.dense[i+1]), int(t.dense[i+2])}); n != (Counts{}) {
				k := [2]int32{int32(i) / 3 / t.groups, int32(i) / 3 % t.groups}
				have := out.Pairs[k]
				have.add(n)
				out.Pairs[k] = have
			}
		}
	}
	return out
}

// Parallel does the parts from 0 up, shared out among workers. If one of them
// panics, the others are let end, and then the caller panics.
func Parallel(workers, parts int, do func(worker, part int)) {
	if workers <= 1 || parts <= 1 {
		for p := range parts {
			do(0, p)
		}
		return
	}
	var wg sync.WaitGroup
	next := make(chan int, parts)
	for p := range parts {
		next <- p
	}
	close(next)
	var failed atomic.Pointer[Failure]
	for w := range workers {
		wg.Go(func() {
			defer func() {
				if p := recover(); p != nil {
					failed.CompareAndSwap(nil, &Failure{p, debug.Stack()})
				}
			}()
			for p := range next {
				if failed.Load() == nil {
					do(w, p)
				}
			}
		})
	}
	wg.Wait()
	if f := failed.Load(); f != nil {
		panic(f)
	}
}

// Failure is what Parallel panics with: what a worker panicked with, and where.
type Failure struct {
	Value any
	Stack []byte // of the worker
}

func (f *Failure) Error() string { return fmt.Sprintf("%v\n%s", f.Value, f.Stack) }

// Difference counts rows by their verdict under one policy and under another.
type Difference [3][3]int
