package derive

// Machines whose tags are missing: by what they do, where they belong.

import (
	"cmp"
	"math"
	"slices"
	"strings"

	"lucidorchard/core/expr"
	"lucidorchard/core/service"
)

// strayPlacer sets the missing tags of machines to those of the role whose habits they have.
type strayPlacer struct{ *deriver }

// MissingTag is a tag that is worth setting: what a machine does speaks for it.
type MissingTag struct {
	Workload string `json:"workload" doc:"Its id"`
	Key      string `json:"key"`
	Value    string `json:"value"`
	Was      string `json:"was,omitempty" doc:"The value that it has, if it looks misspelt"`
	Settles  int    `json:"settles" doc:"Conversations of it that proposals decide by it"`
}

// habit is one thing that a machine does: it talks with a kind of machine on a
// service.
type habit struct {
	client bool
	point  int32 // service
	peer   [3]string
}

// placeStrays fills in the structural tags that machines lack, where what they do
// leaves hardly a doubt. Misspelt values were read as what they look like.
func (d strayPlacer) placeStrays() {
	strays := d.strays()
	if len(strays) == 0 {
		return
	}
	habits := d.habits()
	all, common := d.rolesByHabit(habits)
	for _, m := range strays {
		if len(habits[m]) >= 2 {
			d.placeStray(m, habits[m], all, common)
		}
	}
}

// isStray reports whether a machine lacks one of the three tags.
func (d strayPlacer) isStray(m int32) bool {
	return !d.isOutside(m) && slices.Contains(d.meant[m][:], "")
}

// strays lists the machines that lack a tag, and notes those whose tag means another value
// than it says.
func (d strayPlacer) strays() []int32 {
	var strays []int32
	for i := range d.c.Estate.All() {
		if d.present[i] && d.isStray(i) {
			strays = append(strays, i)
		}
		w := d.c.Estate.Workload(i)
		for k, key := range d.keys {
			if t, _ := w.Tag(key); d.meant[i][k] != "" && expr.Fold(strings.TrimSpace(t.Value)) != d.meant[i][k] {
				d.hints = append(d.hints, MissingTag{Workload: w.ID, Key: key, Value: d.show(key, d.meant[i][k]),
					Was: t.Value})
			}
		}
	}
	return strays
}

// habits finds what each machine calls and is called on, with whom.
func (d strayPlacer) habits() []map[habit]bool {
	habits := make([]map[habit]bool, d.workloads)
	note := func(m int32, h habit) {
		if d.isOutside(m) {
			return
		}
		if habits[m] == nil {
			habits[m] = map[habit]bool{}
		}
		habits[m][h] = true
	}
	for i := range d.ends {
		c := &d.in.Conversations[i]
		if d.scanned[i] || c.Connections == 0 || service.Administration.Contains(c.Point) {
			continue
		}
		a, b := d.ends[i][0], d.ends[i][1]
		ta, tb := d.tags(a), d.tags(b)
		note(a, habit{true, d.svcOf[i], tb})
		note(b, habit{false, d.svcOf[i], ta})
	}
	return habits
}

// roleHabits is a role with how many of its members have each habit.
type roleHabits struct {
	tags    [3]string
	members int
	has     map[habit]int
}

// rolesByHabit returns the roles in order, and how many of them have each habit.
func (d strayPlacer) rolesByHabit(habits []map[habit]bool) (all []*roleHabits, common map[habit]int) {
	roles := map[[3]string]*roleHabits{}
	for i := range d.c.Estate.All() {
		if !d.present[i] || d.isStray(i) {
			continue
		}
		r := roles[d.meant[i]]
		if r == nil {
			r = &roleHabits{tags: d.meant[i], has: map[habit]int{}}
			roles[d.meant[i]] = r
		}
		r.members++
		for h := range habits[i] {
			r.has[h]++
		}
	}
	common = map[habit]int{}
	for _, r := range roles {
		all = append(all, r)
		for h := range r.has {
			common[h]++
		}
	}
	slices.SortFunc(all, func(a, b *roleHabits) int { return slices.Compare(a.tags[:], b.tags[:]) })
	return all, common
}

// placeStray sets the tags that a machine lacks, of the role whose habits it has, if no
// other role comes near.
func (d strayPlacer) placeStray(m int32, habits map[habit]bool, all []*roleHabits, common map[habit]int) {
	type fit struct {
		r     *roleHabits
		score float64
		own   int // habits that few roles have
	}
	var fits []fit
	for _, r := range all {
		agrees := true
		for k, v := range d.meant[m] {
			agrees = agrees && (v == "" || v == r.tags[k])
		}
		if !agrees {
			continue
		}
		f := fit{r: r}
		for h := range habits {
			p := (float64(r.has[h]) + 0.2) / (float64(r.members) + 1)
			f.score += math.Log(p)
			if r.has[h] > 0 && common[h]*3 <= len(all) {
				f.own++
			}
		}
		for h, n := range r.has { // what all of them do, and it does not
			if !habits[h] {
				f.score += math.Log(1 - min(0.9, float64(n)/(float64(r.members)+1)))
			}
		}
		fits = append(fits, f)
	}
	slices.SortFunc(fits, func(a, b fit) int {
		return cmp.Or(cmp.Compare(b.score, a.score), slices.Compare(a.r.tags[:], b.r.tags[:]))
	})
	if len(fits) == 0 || fits[0].own == 0 {
		return
	}
	for k := range d.meant[m] {
		if d.meant[m][k] != "" {
			continue
		}
		// The best of those with another value has to be far behind.
		margin := math.Inf(1)
		for _, f := range fits[1:] {
			if f.r.tags[k] != fits[0].r.tags[k] {
				margin = fits[0].score - f.score
				break
			}
		}
		if margin < 3 {
			continue
		}
		d.meant[m][k] = fits[0].r.tags[k]
		d.hints = append(d.hints, MissingTag{Workload: d.c.Estate.Workload(m).ID, Key: d.keys[k],
			Value: d.show(d.keys[k], fits[0].r.tags[k])})
	}
}

// show returns a folded value as workloads have it.
func (d *deriver) show(key, value string) string {
	return cmp.Or(d.shown[[2]string{key, value}], value)
}
