package likeness_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"lucidorchard/core/estate"
	"lucidorchard/core/likeness"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
	"lucidorchard/demo"
)

// How often a suggestion is right, and for how much of what is missing there is
// one, if a tenth of the tags of each structural key is hidden; with the names
// that the machines have, and with names that tell nothing.
func BenchmarkSuggest(b *testing.B) {
	for _, n := range []int{420, 4000, 20_000} {
		c := demo.Generate(demo.Options{Workloads: n, Days: 3, Seed: uint64(n),
			End: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)})
		e, _ := estate.New(c.Workloads)
		seen := links(c, e)
		for _, plain := range []bool{false, true} {
			b.Run(fmt.Sprintf("workloads=%d/plain-names=%v", n, plain), func(b *testing.B) {
				var right, wrong, silent int
				for b.Loop() {
					right, wrong, silent = score(c.Workloads, seen, structural, 1, plain)
				}
				b.ReportMetric(100*float64(right)/float64(right+wrong), "%precision")
				b.ReportMetric(100*float64(right+wrong)/float64(right+wrong+silent), "%coverage")
			})
		}
		b.Run(fmt.Sprintf("workloads=%d/what-is-missing", n), func(b *testing.B) {
			found := 0
			for b.Loop() {
				found = len(likeness.Suggest(e, seen, structural, nil))
			}
			b.ReportMetric(float64(found), "suggestions")
		})
	}
}

// BenchmarkSuggestFromMillions measures the time until the first suggestions and until
// all, from 5 million links of 20,000 workloads of which each lacks a tag with a
// chance of one in twenty.
func BenchmarkSuggestFromMillions(b *testing.B) {
	r := rand.New(rand.NewPCG(5, 6))
	whole, _ := sample.Large(20_000, 400, 0)
	byRole := map[string][]int32{}
	var ws []estate.Workload
	for i, w := range whole.All() {
		role := ""
		for _, key := range []string{"app", "tier", "env"} {
			t, _ := w.Tag(key)
			role += t.Value + " "
		}
		byRole[role] = append(byRole[role], i)
		some := *w
		some.Tags = slices.Clone(w.Tags)
		if r.IntN(20) == 0 {
			some.SetTag(estate.Tag{Key: structural[r.IntN(3)]})
		}
		ws = append(ws, some)
	}
	roles := slices.Sorted(maps.Keys(byRole))
	links := make([]likeness.Link, 5_000_000)
	for i := range links {
		server := r.IntN(len(roles))
		clients, servers := byRole[roles[(server+3*(1+r.IntN(6)))%len(roles)]], byRole[roles[server]]
		links[i] = likeness.Link{Client: clients[r.IntN(len(clients))], Server: servers[r.IntN(len(servers))],
			Point: service.PointOf(service.TCP, []uint32{443, 8443, 5671, 9092}[(server+r.IntN(2))%4])}
	}
	e, _ := estate.New(ws)
	for b.Loop() {
		start, first := time.Now(), time.Duration(0)
		found := likeness.Suggest(e, links, structural, func(_ float64, found []likeness.Suggestion) bool {
			if first == 0 && len(found) > 0 {
				first = time.Since(start)
			}
			return true
		})
		b.ReportMetric(first.Seconds(), "s-to-the-first")
		b.ReportMetric(float64(len(found)), "suggestions")
	}
}

// BenchmarkSuggestOnGrownEstates measures how much of what is hidden is suggested, and
// how much of that is right, over the families of estates; with their names, and
// with names that tell nothing.
func BenchmarkSuggestOnGrownEstates(b *testing.B) {
	for _, held := range []uint64{0, 1} {
		for _, plain := range []bool{false, true} {
			b.Run(fmt.Sprintf("held-out=%v/plain-names=%v", held == 0, plain), func(b *testing.B) {
				for b.Loop() {
					var right, wrong, silent int
					for _, f := range sample.Families {
						for seed := 3 + held; seed <= 9+held; seed += 3 {
							r, w, s := grownScore(f, seed, plain)
							right, wrong, silent = right+r, wrong+w, silent+s
						}
					}
					b.ReportMetric(100*float64(right)/float64(right+wrong), "%precision")
					b.ReportMetric(100*float64(right+wrong)/float64(right+wrong+silent), "%coverage")
				}
			})
		}
	}
}
