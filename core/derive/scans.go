package derive

// Who tries out what is there.

import (
	"fmt"
	"slices"

	"lucidorchard/core/service"
)

// findScans marks the conversations of clients that try far more than others of
// their kind do, once or twice each: many servers, or many services.
func (d *deriver) findScans() {
	d.scanned = make([]bool, len(d.ends))
	type kind struct {
		role  int32
		point service.Point
		to    int32
	}
	// Two clients of a kind that do the same are enough to call it usual.
	first := map[kind]int32{} // the client that did it; -1: several
	kindOf := func(i int) kind {
		return kind{d.earlyRole(d.ends[i][0]), d.in.Conversations[i].Point, d.earlyRole(d.ends[i][1])}
	}
	for i := range d.ends {
		k := kindOf(i)
		if have, ok := first[k]; !ok {
			first[k] = d.ends[i][0]
		} else if have >= 0 && have != d.ends[i][0] {
			first[k] = -1
		}
	}
	// What several clients call on a kind of machine is a service there.
	type there struct {
		point service.Point
		to    int32
	}
	serves := map[there][3]int32{}
	for i := range d.ends {
		k := there{d.in.Conversations[i].Point, d.earlyRole(d.ends[i][1])}
		have := serves[k]
		if have[2] != 0 {
			continue
		}
		for n := range have {
			if have[n] == d.ends[i][0]+1 {
				break
			}
			if have[n] == 0 {
				have[n] = d.ends[i][0] + 1
				break
			}
		}
		serves[k] = have
	}
	type tried struct {
		servers map[int32]bool
		ports   map[uint32]bool
		tries   int
		hollow  int // that were dropped, or carried nothing
	}
	clients := map[int32]*tried{}
	regular := map[int32]map[int32]bool{} // servers that a client returns to
	stray := func(i int) bool {
		c := &d.in.Conversations[i]
		return c.Days.Count() <= 1 && c.Connections+c.Dropped <= 4 && first[kindOf(i)] >= 0
	}
	bytesKnown := slices.ContainsFunc(d.in.Conversations, func(c Conversation) bool { return c.Bytes > 0 })
	for i := range d.ends {
		c := &d.in.Conversations[i]
		if !stray(i) {
			if regular[d.ends[i][0]] == nil {
				regular[d.ends[i][0]] = map[int32]bool{}
			}
			regular[d.ends[i][0]][d.ends[i][1]] = true
			continue
		}
		if serves[there{c.Point, d.earlyRole(d.ends[i][1])}][2] != 0 {
			continue
		}
		t := clients[d.ends[i][0]]
		if t == nil {
			t = &tried{servers: map[int32]bool{}, ports: map[uint32]bool{}}
			clients[d.ends[i][0]] = t
		}
		t.tries++
		t.servers[d.ends[i][1]] = true
		t.ports[uint32(c.Point)/16] = true // neighbours are hardly different services
		if c.Dropped > 0 || bytesKnown && c.Bytes == 0 {
			t.hollow++
		}
	}
	scans := map[int32]bool{}
	for m, t := range clients {
		if t.tries < 12 || len(t.servers) < 12 && len(t.ports) < 8 {
			continue
		}
		known := 0
		for s := range t.servers {
			if regular[m][s] {
				known++
			}
		}
		// One service at many servers is also what a poller does: a scan finds many
		// closed, or carries nothing.
		sweep := len(t.ports) <= 3
		d.tried[m] = fmt.Sprintf("its client tried %d servers, %d times, and hardly ever came back", len(t.servers), t.tries)
		scans[m] = !sweep || known*2 < len(t.servers) && (t.hollow*10 >= 3*t.tries || !bytesKnown)
	}
	for i := range d.ends {
		d.scanned[i] = scans[d.ends[i][0]] && stray(i)
	}
}
