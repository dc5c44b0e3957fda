package likeness_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/likeness"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
	"lucidorchard/demo"
)

// links resolves what a demo company's machines did.
func links(c *demo.Company, e *estate.Estate) []likeness.Link {
	seen := map[likeness.Link]bool{}
	var out []likeness.Link
	for _, r := range c.Records {
		l := likeness.Link{Client: e.At(r.Client, r.Start).Workload, Server: e.At(r.Server, r.Start).Workload,
			Point: r.Point}
		if !seen[l] {
			seen[l] = true
			out = append(out, l)
		}
	}
	return out
}

// score hides a tenth of the tags of each key and counts what is suggested for
// them: right, wrong, and nothing. With plain names, the names tell nothing.
func score(ws []estate.Workload, seen []likeness.Link, keys []string, seed uint64, plain bool) (right, wrong,
	silent int) {
	r := rand.New(rand.NewPCG(seed, 1))
	for _, key := range keys {
		hidden := map[int32]string{}
		some := make([]estate.Workload, len(ws))
		for i := range ws {
			some[i] = ws[i]
			if plain {
				some[i].Name = fmt.Sprintf("machine%05d", r.IntN(100_000))
			}
			if t, ok := ws[i].Tag(key); ok && r.IntN(10) == 0 {
				hidden[int32(i)] = t.Value
				some[i].SetTag(estate.Tag{Key: key})
			}
		}
		e, _ := estate.New(some)
		for _, s := range likeness.Suggest(e, seen, []string{key}, nil) {
			if want, ok := hidden[s.Workload]; ok {
				if expr.Fold(want) == expr.Fold(s.Value) {
					right++
				} else {
					wrong++
				}
				delete(hidden, s.Workload)
			}
		}
		silent += len(hidden)
	}
	return right, wrong, silent
}

var structural = []string{"app", "tier", "env", "site"}

func TestHiddenTagsAreFoundAgain(t *testing.T) {
	c := demo.Generate(demo.Options{End: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), Days: 7})
	e, _ := estate.New(c.Workloads)
	for _, plain := range []bool{false, true} {
		right, wrong, silent := score(c.Workloads, links(c, e), structural, 1, plain)
		t.Logf("plain names %v: %d right, %d wrong, %d nothing", plain, right, wrong, silent)
		require.GreaterOrEqual(t, float64(right), 0.95*float64(right+wrong))
		require.Greater(t, right, silent/3)
	}
}

func TestASuggestionSaysWhatSpeaksForIt(t *testing.T) {
	var ws []estate.Workload
	for i := range 6 {
		for _, tier := range []string{"entry", "store"} {
			w := estate.Workload{ID: fmt.Sprintf("fares-%s-%02d", tier, i)}
			w.SetTag(estate.Tag{Key: "tier", Value: tier})
			ws = append(ws, w)
		}
	}
	ws[0].Tags = nil                                       // an entry
	ws[3].Tags, ws[3].Retired = nil, time.Unix(0, 0)       // is gone
	ws = append(ws, estate.Workload{ID: "something-else"}) // resembles nobody
	e, _ := estate.New(ws)
	var seen []likeness.Link
	for i := int32(0); i < 12; i += 2 {
		seen = append(seen, likeness.Link{Client: i, Server: i + 1, Point: service.PointOf(service.TCP, 5432)})
	}
	got := likeness.Suggest(e, seen, []string{"tier"}, nil)
	require.Len(t, got, 1)
	s := got[0]
	require.Equal(t, [3]any{int32(0), "tier", "entry"}, [3]any{s.Workload, s.Key, s.Value})
	require.Len(t, s.Like, 5)
	require.Contains(t, s.Because, "its name has “entry”")
	require.Contains(t, s.Because, "reaches tcp/5432")
	require.Equal(t, 1.0, s.Right)
	require.GreaterOrEqual(t, s.Tried, 10)
	require.Empty(t, likeness.Suggest(e, seen, []string{"colour"}, nil))
}

// grownScore hides one in twelve of the tags of a grown estate, of any key, and
// counts what is suggested for them.
func grownScore(f sample.Family, seed uint64, plain bool) (right, wrong, silent int) {
	g := sample.Grow(f, seed)
	e, _ := estate.New(g.Workloads)
	var seen []likeness.Link
	for _, r := range g.Weeks[0] {
		seen = append(seen, likeness.Link{Client: e.At(r.Client, r.Start).Workload,
			Server: e.At(r.Server, r.Start).Workload, Point: r.Point})
	}
	r := rand.New(rand.NewPCG(seed, 1))
	type lost struct {
		workload int32
		key      string
	}
	hidden := map[lost]string{}
	for i := range g.Workloads {
		if plain {
			g.Workloads[i].Name = fmt.Sprintf("machine%05d", r.IntN(100_000))
		}
		for _, key := range structural[:3] { // sites are drawn by lot there
			if t, ok := g.Workloads[i].Tag(key); ok && r.IntN(12) == 0 {
				hidden[lost{int32(i), key}] = expr.Fold(t.Value)
				g.Workloads[i].SetTag(estate.Tag{Key: key})
			}
		}
	}
	e, _ = estate.New(g.Workloads)
	for _, s := range likeness.Suggest(e, seen, structural[:3], nil) {
		switch want, ok := hidden[lost{s.Workload, s.Key}]; {
		case !ok:
		case want == expr.Fold(s.Value):
			right++
		default:
			wrong++
		}
	}
	return right, wrong, len(hidden) - right - wrong
}

func TestTagsOfGrownEstatesAreFoundAgain(t *testing.T) {
	var right, wrong, silent int
	for _, f := range sample.Families {
		r, w, s := grownScore(f, 3, false)
		right, wrong, silent = right+r, wrong+w, silent+s
	}
	t.Logf("%d right, %d wrong, %d nothing", right, wrong, silent)
	require.GreaterOrEqual(t, float64(right), 0.97*float64(right+wrong))
	require.GreaterOrEqual(t, float64(right+wrong), 0.6*float64(right+wrong+silent))
}

// Told to stop, it gives what is there.
func TestSuggestingCanBeStopped(t *testing.T) {
	g := sample.Grow(sample.Families[0], 1)
	for i := range g.Workloads[:5] {
		g.Workloads[i].SetTag(estate.Tag{Key: "tier"})
		g.Workloads[i].SetTag(estate.Tag{Key: "app"})
	}
	e, _ := estate.New(g.Workloads)
	var shares []float64
	all := likeness.Suggest(e, nil, structural, func(done float64, _ []likeness.Suggestion) bool {
		shares = append(shares, done)
		return true
	})
	require.IsIncreasing(t, shares)
	require.NotEmpty(t, all)
	none := likeness.Suggest(e, nil, structural, func(float64, []likeness.Suggestion) bool { return false })
	require.Empty(t, none)
}

// Of the demo's workloads that lack a tier, it knows those that work like others, and
// says nothing of those that hardly do anything: that all the quiet ones it knows are
// stores is no reason.
func TestOfQuietWorkloadsNothingIsSaid(t *testing.T) {
	for _, workloads := range []int{420, 5000} {
		c := demo.Generate(demo.Options{Workloads: workloads, Days: 7,
			End: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)})
		e, _ := estate.New(c.Workloads)
		var said []string
		for _, s := range likeness.Suggest(e, links(c, e), structural, nil) {
			if s.Key == "tier" {
				said = append(said, e.Workload(s.Workload).Label())
			}
		}
		require.Len(t, said, 4, said)
		for _, name := range said {
			require.Contains(t, name, "-x-77", said)
		}
	}
}
