package demo

import (
	"fmt"
	"strings"
	"time"
)

// Policy is the draft that the company has come to: the shared services and
// the first applications are written down, the others wait to be derived.
func Policy(end time.Time) string {
	return strings.NewReplacer("CRANE-UNTIL", end.AddDate(0, 3,
		0).Format(time.DateOnly)).Replace(fmt.Sprintf(policyText, roles("booking", "boarding", "manifest", "fares")))
}

func roles(apps ...string) string {
	var b strings.Builder
	for _, a := range apps {
		for _, t := range []string{"entry", "logic", "store"} {
			if a == "fares" && t == "store" {
				continue // pinned below, by name
			}
			fmt.Fprintf(&b, "group %s-%s-live = app is %s and tier is %s and env is live\n", a, t, a, t)
		}
	}
	return b.String()
}

const policyText = `# Saltmarsh Ferries: who may reach whom.

service web = tcp/80, tcp/443
service dns = tcp/53, udp/53
service ntp = udp/123
service ssh = tcp/22
service postgres = tcp/5432
service syslog = udp/514
service steering = tcp/7443 "How enforcement points are managed"

# Environments
group live = env is live
group trial = env is trial
group bench = env is bench

# Shared services
group names = app is names
group clock = app is clock
group logbook = app is logbook
group keys = app is keys
group vault = app is vault
group gangway = app is gangway
group shared = app in (names, clock, logbook, keys, vault, gangway)
group workloads = not outside

# Applications
%sgroup fares-store-live = name in (fares-store-01, fares-store-02, fares-store-03, fares-store-04, fares-store-05)
group booking-live = app is booking and env is live
group protected = app in (manifest, fares) and tier is store and env is live
group cranes = tier is crane
group wharf-legacy = app is wharf
group not-shared = not member of shared

# Places outside
group depots = address in 10.40.0.0/16 "Harbour offices"
group card-network = address in 198.51.100.0/24

area booking = booking-live owner booking-team

layer guardrails
reject any -> outside on tcp/23 "No telnet leaves the estate"
permit gangway -> workloads on ssh "Administrators' way in"
permit gangway -> workloads on steering "Management of the enforcement points"

layer separations
apart live, trial, bench within not-shared "Trial and bench data never meet live data"

layer allowances
permit workloads -> names on dns
permit workloads -> clock on ntp
permit workloads -> logbook on syslog
permit workloads -> keys on tcp/636
permit logbook -> workloads on tcp/9100, icmp/8 "Metrics and pings"
permit depots, outside -> booking-entry-live on web "Tickets, at kiosks and on the web"
permit booking-entry-live -> booking-logic-live on tcp/8443 area booking
permit booking-logic-live -> booking-store-live on postgres area booking
permit depots -> boarding-entry-live on tcp/9443 "Gate scanners"
permit boarding-entry-live -> boarding-logic-live on tcp/8443
permit boarding-logic-live -> boarding-store-live on postgres
permit manifest-entry-live -> manifest-logic-live on tcp/8443
permit manifest-logic-live -> manifest-store-live on postgres
permit fares-entry-live -> fares-logic-live on tcp/8443
permit fares-logic-live -> fares-store-live on postgres
permit booking-logic-live -> fares-logic-live on tcp/8443
permit fares-logic-live -> card-network on tcp/443 "Card payments"
permit workload gangway-02 -> cranes on tcp/23 until CRANE-UNTIL "Until the crane controllers are replaced"

layer closing
reject outside -> protected on any "Nobody outside reaches protected data"

assert never trial -> protected on any "Trial never reaches protected data"
assert always gangway -> workloads on ssh "So that any change can be undone"
assert always workloads -> names on dns "Name service"
assert always workloads -> clock on ntp "Time"
assert always workloads -> keys on tcp/636 "Directory"
assert always gangway -> workloads on steering "Management of the enforcement points"
assert only fares-logic-live -> fares-store-live on postgres "Card data"
`
