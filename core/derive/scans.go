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
	usual, serves := d.usualWays()
	stray := func(i int) bool {
		c := &d.in.Conversations[i]
		return c.Connections+c.Dropped <= 4 && c.Days.Count() <= 1 && !usual(i)
	}
	clients := map[int32]*tried{}
	bytesKnown := slices.ContainsFunc(d.in.Conversations, func(c Conversation) bool { return c.Bytes > 0 })
	for i := range d.ends {
		if !stray(i) || serves(i) {
			continue
		}
		c := &d.in.Conversations[i]
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
	for m, t := range clients {
		if t.tries < 12 || len(t.servers) < 12 && len(t.ports) < 8 {
			delete(clients, m)
		}
	}
	if len(clients) == 0 {
		return
	}
	regular := map[int32]map[int32]bool{} // servers that such a client returns to
	for m := range clients {
		regular[m] = map[int32]bool{}
	}
	for i := range d.ends {
		if of := regular[d.ends[i][0]]; of != nil && !stray(i) {
			of[d.ends[i][1]] = true
		}
	}
	scans := map[int32]bool{}
	for m, t := range clients {
		known := 0
		for s := range t.servers {
			if regular[m][s] {
				known++
			}
		}
		// One service at many servers is also what a poller does: a scan finds many
		// closed, or carries nothing.
		sweep := len(t.ports) <= 3
		d.tried[m] = fmt.Sprintf("its client tried %d servers, %d times, and rarely returned", len(t.servers),
			t.tries)
		scans[m] = !sweep || known*2 < len(t.servers) && (t.hollow*10 >= 3*t.tries || !bytesKnown)
	}
	for i := range d.ends {
		d.scanned[i] = scans[d.ends[i][0]] && stray(i)
	}
}

// tried is what a client did that it hardly ever does.
type tried struct {
	servers map[int32]bool
	ports   map[uint32]bool
	tries   int
	hollow  int // that were dropped, or carried nothing
}

// usualWays returns what tells of a conversation whether several clients of its kind do the
// same, and whether several clients call the service on that kind of machine.
func (d *deriver) usualWays() (usual, serves func(i int) bool) {
	// Kinds and kinds of servers, where all that is outside is one.
	type there struct {
		point service.Point
		to    int32
	}
	type way struct {
		role int32
		there
	}
	ways, theres := map[way]int32{}, map[there]int32{}
	wayOf, thereOf := make([]int32, len(d.kinds)), make([]int32, len(d.kinds))
	for k, x := range d.kinds {
		t := there{x.point, x.server}
		wayOf[k], thereOf[k] = numbered(ways, way{x.client, t}), numbered(theres, t)
	}
	// Two clients of a kind that do the same are enough to call it usual.
	const none, several = -1, -2
	first := make([]int32, len(ways)) // the client that did it
	for k := range first {
		first[k] = none
	}
	// What several clients call on a kind of machine is a service there.
	callers := make([][3]int32, len(theres)) // clients, plus 1
	for i := range d.ends {
		k, client := d.kindOf[i], d.ends[i][0]
		if have := &first[wayOf[k]]; *have == none {
			*have = client
		} else if *have != client {
			*have = several
		}
		have := &callers[thereOf[k]]
		for n := range have {
			if have[n] == client+1 {
				break
			}
			if have[n] == 0 {
				have[n] = client + 1
				break
			}
		}
	}
	return func(i int) bool { return first[wayOf[d.kindOf[i]]] == several },
		func(i int) bool { return callers[thereOf[d.kindOf[i]]][2] != 0 }
}

// numbered returns the number of something, a new one if it has none.
func numbered[K comparable](index map[K]int32, k K) int32 {
	n, ok := index[k]
	if !ok {
		n = int32(len(index))
		index[k] = n
	}
	return n
}
