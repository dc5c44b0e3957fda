package demo

// Point is an enforcement point of the demo company.
type Point struct {
	Name, Guards, Side string
	Wave               int
}

// Points are those of both sites, in the order in which a release reaches them: what
// can break least first.
var Points = []Point{
	{"bench-gate", "env is bench", "both", 1},
	{"trial-north", "env is trial and site is northquay", "both", 2},
	{LosesARule, "env is trial and site is southquay", "both", 2},
	{"south-gate-1", "env is live and site is southquay and app in (booking, boarding, fares)", "both", 3},
	{"south-gate-2", "env is live and site is southquay and app in (manifest, tides, roster, freight)", "both", 3},
	{"south-shared", "env is live and site is southquay and not app in (booking, boarding, fares, manifest, tides, " +
		"roster, freight)", "server", 3},
	{"north-gate-1", "env is live and site is northquay and app in (booking, boarding, fares)", "both", 4},
	{"north-gate-2", "env is live and site is northquay and app in (manifest, tides, roster, freight)", "both", 4},
	{"north-shared", "env is live and site is northquay and not app in (booking, boarding, fares, manifest, tides, " +
		"roster, freight)", "server", 4},
}

// LosesARule is the point at which somebody deletes a rule by hand after a while.
const LosesARule = "trial-south"
