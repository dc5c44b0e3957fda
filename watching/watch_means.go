package watching

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/plural"
	"lucidorchard/core/prove"
	"lucidorchard/core/service"
	"lucidorchard/core/watch"
	"lucidorchard/model"
	"lucidorchard/point"
	"lucidorchard/traffic"
)

// The kinds of matters that stand until they are over: of the means of watching, and of
// what is promised.
const (
	driftMatter     = "drift"
	silentPoint     = "silent point"
	silentExporter  = "silent exporter"
	gapMatter       = "gap"
	assertionMatter = "assertion"
	memberMatter    = "member"
	endingMatter    = "ending"
	silenceMatter   = "silence"
)

var standingKinds = []string{driftMatter, silentPoint, silentExporter, gapMatter, assertionMatter, endingMatter,
	silenceMatter,
	destinationMatter}

const (
	// exporterSilence is after how long without a packet an exporter is a matter.
	exporterSilence = 15 * time.Minute
	// pointSilence is after how long a point is.
	pointSilence = time.Minute
	// gapLasts is for how long a gap is told after it was found.
	gapLasts = time.Hour
	// soon is before what ends is told of.
	soon = 7 * 24 * time.Hour
)

// means is what is remembered of the means of watching from look to look.
type means struct {
	missed  map[string]int64 // by exporter: records that never came, so far
	gaps    map[string]gap
	members string // versions that the members of groups were last looked at
}

type gap struct {
	records int64
	at      time.Time
}

// matters collects what is the matter just now.
type matters []Matter

func (s *matters) add(kind, key string, since time.Time, about About, why string, title ...watch.Piece) {
	*s = append(*s, Matter{ID: matterID(kind + "\x1f" + key), Kind: kind, Title: encoded(title), Why: why,
		About: encoded(about),
		First: since})
}

func strong(text string) watch.Piece { return watch.Piece{Text: text, Strong: true} }

func plain(text string) watch.Piece { return watch.Piece{Text: text} }

// lookAround finds what is the matter with the means of watching, and with what is
// promised.
func (a *Service) lookAround(ctx context.Context, m *model.Model) error {
	now := time.Now().UTC()
	var all matters
	if err := a.lookAtPointsHealth(ctx, &all, now); err != nil {
		return err
	}
	if err := a.lookAtExporters(ctx, &all, now); err != nil {
		return err
	}
	if err := a.lookAtPromises(ctx, m, &all, now); err != nil {
		return err
	}
	if err := a.lookAtDestinations(ctx, &all, now); err != nil {
		return err
	}
	silences, err := a.Store.Silences(ctx, now.Truncate(24*time.Hour))
	if err != nil {
		return err
	}
	for _, x := range silences {
		pt := service.Point(x.Service)
		all.add(silenceMatter, fmt.Sprint(x.Who, "\x1f", x.What, "\x1f", pt), x.Last.Add(48*time.Hour), About{
			Who: &watch.Side{Text: x.Who}, What: &watch.Side{Text: x.What}},
			"it called on at least six of seven days, last on "+x.Last.Format("2 Jan"),
			strong(x.Who), plain(" no longer reaches "), strong(x.What), plain(" on "+pt.String()))
	}
	notices, err := a.notices(ctx, now)
	if err != nil {
		return err
	}
	_, changed, err := a.Store.PutStanding(ctx, standingKinds, all, a.tellingsOf(notices))
	if err != nil {
		return err
	}
	opened, err := a.lookAtMembers(ctx, m, now, notices)
	if err != nil {
		return err
	}
	if changed || len(opened) > 0 {
		a.Events.MattersChanged()
	}
	return nil
}

func (a *Service) lookAtPointsHealth(ctx context.Context, all *matters, now time.Time) error {
	points, err := a.Store.Points(ctx)
	if err != nil {
		return err
	}
	former, err := a.Store.FormerPoints(ctx, now.Add(-pointSilence))
	if err != nil {
		return err
	}
	for _, p := range former {
		all.add(driftMatter, p.Name+" deleted", now, About{Point: p.Name}, "it was deleted here on "+
			p.Dropped.UTC().Format("2 Jan at 15:04")+
			", and its agent still runs: its plan stays loaded. Stop the agent, and delete its table to open the "+
			"machine",
			strong(p.Name), plain(" was deleted and still reports"))
	}
	for _, p := range points {
		if p.Heard == nil || p.Kind == "file" && p.Said == nil {
			continue
		}
		if quiet := now.Sub(*p.Heard); p.Kind != "file" && quiet > pointSilence {
			all.add(silentPoint, p.Name, *p.Heard, About{Point: p.Name}, "its last contact was at "+
				p.Heard.UTC().Format("15:04 on 2 Jan")+
				"; its agent may have stopped, and its plan stays loaded", strong(p.Name),
				plain(" is silent"))
			continue
		}
		var said point.Status
		if err := json.Unmarshal(p.Said, &said); err != nil {
			return fmt.Errorf("what %s said cannot be read: %w", p.Name, err)
		}
		about := About{Point: p.Name, Release: said.Runs().Newest()}
		words := map[string]string{"drifted": " does not run its plan",
			"refused":   " refused its plan",
			"went back": " returned to its previous plan", "ahead": " does not follow this server"}[said.State]
		if words != "" {
			all.add(driftMatter, p.Name, now, about, said.State+": "+said.Words, strong(p.Name), plain(words))
		}
		if n := len(said.Unlisted); n > 0 {
			all.add(driftMatter, p.Name+" unlisted", now, about,
				fmt.Sprintf("%v: the inventory lacks %s, so no rule of the point's plan "+
					"applies there. Add the address to the workload", said.Unlisted,
					plural.Of(n, "address", "addresses")),
				strong(p.Name),
				plain(" is open on "+plural.Of(n, "address", "addresses")))
		}
		if p.OtherFrom != "" && p.OtherAt != nil && now.Sub(*p.OtherAt) < otherAgent {
			all.add(driftMatter, p.Name+" agents", now, about, "the token is used from "+p.RunFrom+" and from "+
				p.OtherFrom+
				". Replace the token, and stop the other agent", strong(p.Name),
				plain(" has two agents on one token"))
		}
	}
	return nil
}

// otherAgent is how long a second agent on a token is shown after it was last seen.
const otherAgent = time.Hour

func (a *Service) lookAtExporters(ctx context.Context, all *matters, now time.Time) error {
	exporters, err := a.Store.Exporters(ctx)
	if err != nil {
		return err
	}
	if a.looking.means.missed == nil {
		a.looking.means.missed, a.looking.means.gaps = map[string]int64{}, map[string]gap{}
	}
	for _, e := range exporters {
		var status traffic.ExporterStatus
		if err := json.Unmarshal(e.State, &status); err != nil {
			return fmt.Errorf("what is known of the exporter %s cannot be read: %w", e.Addr, err)
		}
		name := e.Addr.String()
		if quiet := now.Sub(status.Last); quiet > exporterSilence && quiet < 30*24*time.Hour {
			all.add(silentExporter, name, status.Last, About{Exporter: name}, "its last packet came at "+
				status.Last.UTC().Format("15:04 on 2 Jan")+"; its traffic since then is unknown",
				strong(name), plain(" no longer sends"))
		}
		missed := int64(0)
		for _, s := range status.Streams {
			if !s.Mixed { // then it cannot be told
				missed += s.Missed
			}
		}
		if before, known := a.looking.means.missed[name]; known && missed > before {
			g := a.looking.means.gaps[name]
			if now.Sub(g.at) > gapLasts {
				g.records = 0
			}
			a.looking.means.gaps[name] = gap{g.records + missed - before, now}
		}
		a.looking.means.missed[name] = missed
		if g := a.looking.means.gaps[name]; !g.at.IsZero() && now.Sub(g.at) < gapLasts {
			all.add(gapMatter, name, g.at, About{Exporter: name},
				fmt.Sprintf("according to its sequence numbers, %d records never arrived; their traffic is unknown",
					g.records), strong(name), plain(" sent records that did not all arrive"))
		}
	}
	collectors, err := a.Store.Collectors(ctx)
	if err != nil {
		return err
	}
	for _, c := range collectors {
		if quiet := now.Sub(c.At); quiet > time.Minute && quiet < 7*24*time.Hour {
			all.add(silentExporter, "collector "+c.Name, c.At, About{}, "its last contact was at "+
				c.At.UTC().Format("15:04 on 2 Jan")+
				"; records that exporters send to it are lost", plain("The collector "), strong(c.Name),
				plain(" does not run"))
		}
	}
	return nil
}

// lookAtPromises finds assertions that do not hold, and what ends soon: in what is in
// force, or in the draft as long as nothing is.
func (a *Service) lookAtPromises(ctx context.Context, m *model.Model, all *matters, now time.Time) error {
	in, err := a.Promises(ctx, m)
	if err != nil {
		return err
	}
	release, c, of := in.Release, in.Compiled, "the draft"
	if release != 0 {
		of = fmt.Sprintf("release %d", release)
	}
	for _, r := range in.Asserts {
		if r.Outcome != prove.Broken {
			continue
		}
		text := strings.TrimPrefix(r.Assert.Sentence(), "assert ")
		name := func(p decide.Placed) string {
			if p.Workload == estate.Outside {
				return p.Addr.String()
			}
			return m.Estate.Workload(p.Workload).Label()
		}
		all.add(assertionMatter, text, now, About{Text: text, Line: r.Assert.Line, Release: release},
			fmt.Sprintf("in %s: %s → %s on %s contradicts it", of, name(r.Client), name(r.Server), r.Point),
			strong(text), plain(" does not hold"))
	}
	for _, r := range c.Policy.Rules {
		if r.Until == nil || r.Off {
			continue
		}
		if end := time.Unix(r.Until.End().Sec, 0).UTC(); end.After(now) && end.Sub(now) < soon {
			all.add(endingMatter, "rule "+r.Sentence(), now, About{Text: r.Sentence(), Line: r.Line, Release: release},
				fmt.Sprintf("line %d of %s ends at midnight, UTC, before %s; after that it matches nothing", r.Line, of,
					end.Format("2 Jan")),
				strong(r.Sentence()), plain(" ends on "+end.AddDate(0, 0, -1).Format("2 Jan")))
		}
	}
	exemptions, err := a.Store.Exemptions(ctx)
	if err != nil {
		return err
	}
	for _, e := range exemptions {
		if e.Ends.After(now) && e.Ends.Sub(now) < soon {
			all.add(endingMatter, "exemption "+e.Workload, now, About{Workload: e.Workload},
				fmt.Sprintf("exempt because: %s; ask %s", e.Reason, e.Owner), strong(m.Estate.Called(e.Workload)),
				plain(" is exempt until "+e.Ends.UTC().Format("2 Jan")+", and guarded again after that"))
		}
	}
	return nil
}

// lookAtMembers finds who joined or left a group that is watched, and of whom it cannot
// be told any more whether he is in it.
func (a *Service) lookAtMembers(ctx context.Context, m *model.Model, now time.Time, notices *telling) ([]Opening,
	error) {
	groups, err := a.WatchedGroups(ctx, m)
	if err != nil {
		return nil, err
	}
	versions := fmt.Sprint(m.Versions.Workloads, m.Versions.Revision, m.AsOf().Sec/3600, groups)
	if versions == a.looking.means.members {
		return nil, nil
	}
	before, err := a.Store.WatchedMembers(ctx)
	if err != nil {
		return nil, err
	}
	var is []Members
	var found matters
	differ := len(before) != len(groups)
	for _, g := range groups {
		next := membersOf(m, g)
		is = append(is, next)
		was, known := before[g]
		differ = differ || !known || !slices.Equal(was.In, next.In) || !slices.Equal(was.Undecided, next.Undecided)
		if !known {
			continue
		}
		joined, left := without(next.In, was.In), without(was.In, next.In)
		unsure := without(next.Undecided, was.Undecided)
		for _, x := range []struct {
			list []string
			verb string
		}{{joined, "joined"}, {left, "left"}, {unsure, "became undecided for"}} {
			if len(x.list) == 0 {
				continue
			}
			names := make([]string, len(x.list))
			for i, id := range x.list {
				names[i] = m.Estate.Called(id)
			}
			who := names[0]
			if len(names) > 1 {
				who = fmt.Sprintf("%d workloads", len(names))
			}
			found.add(memberMatter, strings.Join([]string{g, x.verb, now.Format(time.DateOnly), names[0]}, "\x1f"),
				now, About{Group: g, Workload: x.list[0]},
				strings.Join(names[:min(8, len(names))], ", "), strong(who), plain(" "+x.verb+" "), strong(g))
		}
	}
	var opened []Opening
	if differ {
		if opened, err = a.Store.PutMembers(ctx, is, found, a.tellingsOf(notices)); err != nil {
			return nil, err
		}
	}
	a.looking.means.members = versions
	return opened, nil
}

// membersOf returns the workloads of which a group says yes, or cannot tell, at one of the
// addresses that they hold; or without one.
func membersOf(m *model.Model, group string) Members {
	out := Members{Group: group, In: []string{}, Undecided: []string{}}
	if m.Policy.Groups[group] == nil {
		return out
	}
	walk := decide.NewWalk(m.Estate, m.Policy, m.AsOf())
	for i, w := range m.Estate.All() {
		if !w.Retired.IsZero() {
			continue
		}
		at := estate.Endpoint{Workload: i}
		for _, l := range w.Leases {
			if h := m.Estate.Holder(l.Addr, m.AsOf()); h != nil && h.Workload == i {
				at.Addr = l.Addr
				break
			}
		}
		switch walk.Group(group, at) {
		case expr.Yes:
			out.In = append(out.In, w.ID)
		case expr.Undecided:
			out.Undecided = append(out.Undecided, w.ID)
		}
	}
	slices.Sort(out.In)
	slices.Sort(out.Undecided)
	return out
}

// without returns the items of a that are not in b; both are in order.
func without(a, b []string) (out []string) {
	for _, x := range a {
		if _, in := slices.BinarySearch(b, x); !in {
			out = append(out, x)
		}
	}
	return out
}
