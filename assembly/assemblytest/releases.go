package assemblytest

import releasingrest "lucidorchard/releasing/rest"

// Runs reports whether a point has loaded what it is to run: releases that it enforces and
// observes.
func Runs(p releasingrest.PointState, enforces, observes int) bool {
	return p.State == "holds" && p.Held.Enforces == enforces && p.Held.Observes == observes
}
