package derive

// Services with very many edges: what counts is who takes part, not with how many.

import "slices"

// thinFrom is from how many edges a service is thinned out.
var thinFrom = 50_000

// work returns the edges of a service that rules are chosen by. Where most of one
// kind of machine talk with most of another, an edge for each client and one for
// each server are enough: they stand for all of its edges.
func (d *deriver) work(svc int) []edge {
	full := d.edges[svc]
	for i := range full {
		full[i].covered = false
		full[i].rs = [2]float64{full[i].r, full[i].r}
	}
	if len(full) < thinFrom {
		return full
	}
	type count struct {
		edges, clients, servers int32
	}
	var blocks []count
	at := func(b int32) *count {
		for int(b) >= len(blocks) {
			blocks = append(blocks, count{})
		}
		return &blocks[b]
	}
	type half struct {
		m, block int32
		server   bool
	}
	type stand struct {
		edge int32 // that stands for the others
		miss float64
		open bool
	}
	stands := map[half]*stand{}
	for i := range full {
		x := &full[i]
		b := at(x.block)
		b.edges++
		for k, m := range [2]int32{x.client, x.server} {
			h := half{m, x.block, k == 1}
			s := stands[h]
			if s == nil {
				s = &stand{int32(i), 1, x.open}
				stands[h] = s
				if k == 0 {
					b.clients++
				} else {
					b.servers++
				}
			} else if x.open && !s.open {
				s.edge, s.open = int32(i), true
			}
			s.miss *= 1 - x.r
		}
	}
	dense := func(b int32) bool { return blocks[b].edges >= 3*(blocks[b].clients+blocks[b].servers) }
	var out []edge
	for i := range full {
		x := full[i]
		if !dense(x.block) {
			out = append(out, x)
			continue
		}
		client, server := stands[half{x.client, x.block, false}], stands[half{x.server, x.block, true}]
		if client.edge != int32(i) && server.edge != int32(i) {
			continue
		}
		x.rs = [2]float64{}
		if client.edge == int32(i) {
			x.rs[0] = 1 - client.miss
		}
		if server.edge == int32(i) {
			x.rs[1] = 1 - server.miss
		}
		out = append(out, x)
	}
	return out
}

// whole adds to a draft all edges of its service that it covers, where it was chosen
// by some of them.
func (d *deriver) whole(svc int, r *draft, byBlock [][]int32) {
	blocks := map[int32]bool{}
	var order []int32
	for _, x := range r.edges {
		if !blocks[x.block] {
			blocks[x.block] = true
			order = append(order, x.block)
		}
	}
	slices.Sort(order)
	r.edges = nil
	for _, b := range order {
		for _, i := range byBlock[b] {
			x := &d.edges[svc][i]
			if (judge{d}).anyHolds(r.left, x.client) && (judge{d}).anyHolds(r.right, x.server) && d.keeps(r, x) {
				r.edges = append(r.edges, x)
			}
		}
	}
}

// keeps reports whether an edge agrees with the clauses of a rule, by the tags that
// machines are meant to have.
func (d *deriver) keeps(r *draft, x *edge) bool {
	for _, k := range r.same {
		if d.isOutside(x.client) || d.isOutside(x.server) {
			return false
		}
		if v := (setMaker{d}).tagOf(x.client, k); v == "" || v != (setMaker{d}).tagOf(x.server, k) {
			return false
		}
	}
	return true
}

// blocksOfEdges gathers the edges of a service by their block.
func blocksOfEdges(edges []edge) [][]int32 {
	var out [][]int32
	for i := range edges {
		for int(edges[i].block) >= len(out) {
			out = append(out, nil)
		}
		out[edges[i].block] = append(out[edges[i].block], int32(i))
	}
	return out
}
