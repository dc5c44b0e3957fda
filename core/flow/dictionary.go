package flow

import (
	"maps"
	"net/netip"
	"slices"
	"sync"

	"lucidorchard/core/service"
)

// Pair is what goes on between two addresses, by their numbers, on a service.
type Pair struct {
	Client, Server uint32
	Point          service.Point
}

// Dictionary numbers addresses, the names of those who observed, and pairs, each
// from 0 in the order in which they come. It only grows, and is safe for
// concurrent use. The zero value is ready to use.
type Dictionary struct {
	mu        sync.RWMutex
	index     map[netip.Addr]uint32
	all       []netip.Addr
	observers map[string]uint32
	names     []string

	pairMu sync.RWMutex
	places []uint32 // open hash table of pairs: number plus 1; 0 is free
	pairs  []Pair
}

// Observer returns the number of a name, a new one if need be.
func (d *Dictionary) Observer(name string) uint32 {
	d.mu.Lock()
	defer d.mu.Unlock()
	n, ok := d.observers[name]
	if !ok {
		if d.observers == nil {
			d.observers = map[string]uint32{}
		}
		n = uint32(len(d.names))
		d.observers[name] = n
		d.names = append(d.names, name)
	}
	return n
}

// ObserverName returns the name of a number.
func (d *Dictionary) ObserverName(n uint32) string {
	d.mu.RLock()
	defer d.mu.RUnlock()
	return d.names[n]
}

// withoutPairs returns a dictionary that knows the same names, and nothing else.
func (d *Dictionary) withoutPairs() *Dictionary {
	d.mu.RLock()
	defer d.mu.RUnlock()
	return &Dictionary{observers: maps.Clone(d.observers), names: slices.Clone(d.names)}
}

// Number returns the number of an address, a new one if need be.
func (d *Dictionary) Number(addr netip.Addr) uint32 {
	d.mu.RLock()
	n, ok := d.index[addr]
	d.mu.RUnlock()
	if ok {
		return n
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if n, ok := d.index[addr]; ok {
		return n
	}
	if d.index == nil {
		d.index = map[netip.Addr]uint32{}
	}
	n = uint32(len(d.all))
	d.index[addr] = n
	d.all = append(d.all, addr)
	return n
}

// Addresses returns the addresses by their numbers. The slice must not be changed.
func (d *Dictionary) Addresses() []netip.Addr {
	d.mu.RLock()
	defer d.mu.RUnlock()
	return d.all[:len(d.all):len(d.all)]
}

// Pairs returns the pairs by their numbers. The slice must not be changed.
func (d *Dictionary) Pairs() []Pair {
	d.pairMu.RLock()
	defer d.pairMu.RUnlock()
	return d.pairs[:len(d.pairs):len(d.pairs)]
}

// Find returns the number of a pair, if it has one.
func (d *Dictionary) Find(client, server netip.Addr, point service.Point) (uint32, bool) {
	d.mu.RLock()
	a, ok1 := d.index[client]
	b, ok2 := d.index[server]
	d.mu.RUnlock()
	d.pairMu.RLock()
	defer d.pairMu.RUnlock()
	if !ok1 || !ok2 || d.places == nil {
		return 0, false
	}
	place := *d.place(Pair{a, b, point})
	return place - 1, place > 0
}

// numberPairs numbers pairs in columns, new ones where need be.
func (d *Dictionary) numberPairs(clients, servers []uint32, points []service.Point) []uint32 {
	out := make([]uint32, len(clients))
	d.pairMu.Lock()
	defer d.pairMu.Unlock()
	if d.places == nil {
		d.places = make([]uint32, 1<<10)
	}
	for i := range clients {
		p := Pair{clients[i], servers[i], points[i]}
		place := d.place(p)
		if *place > 0 {
			out[i] = *place - 1
			continue
		}
		out[i] = uint32(len(d.pairs))
		d.pairs = append(d.pairs, p)
		*place = uint32(len(d.pairs))
		if 2*len(d.pairs) > len(d.places) {
			d.grow()
		}
	}
	return out
}

func (p Pair) hash() uint64 {
	h := (uint64(p.Client)<<32 | uint64(p.Server)) * 0x9e3779b97f4a7c15
	return (h ^ h>>29 ^ uint64(p.Point)*0xd6e8feb86659fd93) * 0xbf58476d1ce4e5b9
}

// place finds where a pair is or belongs.
func (d *Dictionary) place(p Pair) *uint32 {
	for i := p.hash() >> 24; ; i++ {
		place := &d.places[i&uint64(len(d.places)-1)]
		if *place == 0 || d.pairs[*place-1] == p {
			return place
		}
	}
}

func (d *Dictionary) grow() {
	d.places = make([]uint32, 4*len(d.places))
	for i, p := range d.pairs {
		*d.place(p) = uint32(i + 1)
	}
}
