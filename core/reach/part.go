package reach

import (
	"strings"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
)

// parter finds the part of the policy that an end of a conversation is in.
type parter struct{ *View }

// Part is a part of the estate: what somebody is answerable for. It is an area of
// the policy, all areas of an owner, or the workloads with a value of a tag.
type Part struct{ Kind, Key, Value string }

// The kinds of part.
const (
	OfArea  = "area"
	OfOwner = "owner"
	ofTag   = "tag"
)

// ReadPart reads "area:NAME", "owner:NAME" or "KEY:VALUE", which is a tag.
func ReadPart(text string) (Part, bool) {
	kind, value, ok := strings.Cut(text, ":")
	switch {
	case !ok || kind == "" || value == "":
		return Part{}, false
	case kind == OfArea || kind == OfOwner:
		return Part{Kind: kind, Value: value}, true
	}
	return Part{Kind: ofTag, Key: kind, Value: value}, true
}

// String is what ReadPart reads.
func (p Part) String() string {
	if p.Kind == ofTag {
		return p.Key + ":" + p.Value
	}
	return p.Kind + ":" + p.Value
}

// areas returns the areas of the policy that a part is made of.
func (p Part) areas(all *policy.Policy) (out []*policy.Area) {
	for _, item := range all.Items {
		if a, ok := item.Statement.(*policy.Area); ok && (p.Kind == OfArea && a.Name == p.Value ||
			p.Kind == OfOwner && a.Owner == p.Value) {
			out = append(out, a)
		}
	}
	return out
}

// partOf returns for each end whether it is part of something.
func (v parter) partOf(p Part) []bool {
	out := make([]bool, len(v.places))
	areas := p.areas(v.Compiled.Policy)
	for i, at := range v.places {
		if p.Kind != ofTag {
			for _, a := range areas {
				out[i] = out[i] || v.Compiled.Group(a.Group.Name, at) == expr.Yes
			}
			continue
		}
		if at.Workload != estate.Outside {
			t, ok := v.Compiled.Estate.Workload(at.Workload).Tag(p.Key)
			out[i] = ok && expr.Fold(t.Value) == expr.Fold(p.Value)
		}
	}
	return out
}

// nameByArea calls each end by the area that it is in, or by whose that is; by
// the first in the text, where it is in several.
func (v parter) nameByArea(owner bool) *naming {
	out := &naming{of: make([]int32, len(v.places))}
	index := map[Label]int32{}
	bySignature := map[int32]Label{}
	var areas []*policy.Area
	for _, item := range v.Compiled.Policy.Items {
		if a, ok := item.Statement.(*policy.Area); ok && (!owner || a.Owner != "") {
			areas = append(areas, a)
		}
	}
	for i, p := range v.places {
		l, known := bySignature[p.Signature()]
		if !known {
			l = Label{Text: "in no area", Kind: "tags", Nobody: true}
			if owner {
				l.Text = "nobody's"
			}
			for _, a := range areas {
				if v.Compiled.Group(a.Group.Name, p) == expr.Yes {
					l = Label{Text: a.Name, Kind: "tags"}
					if owner {
						l.Text = a.Owner
					}
					break
				}
			}
			bySignature[p.Signature()] = l
		}
		if p.Workload == estate.Outside && l.Nobody {
			l = Label{Text: "outside", Kind: "outside"}
		}
		out.of[i] = out.number(index, l)
	}
	return out
}

// Owners returns whose each part is: the owner of the first area that one of its
// workloads is in. by is what parts are called by.
func (v *View) Owners(by string) map[string]string {
	out := map[string]string{}
	if by == ByOwner {
		return out
	}
	parts, owners := namer{v}.naming(by), namer{v}.naming(ByOwner)
	for i := range v.places {
		l := owners.all[owners.of[i]]
		name := parts.all[parts.of[i]].Text
		if _, known := out[name]; !known && !l.Nobody && l.Kind != "outside" {
			out[name] = l.Text
		}
	}
	return out
}
