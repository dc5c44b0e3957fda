// Package immutable has containers that are never changed: an edit gives a new
// one that shares all but what was touched, so that many versions of a large
// estate are cheap to keep side by side and safe to read together.
//
// It must not know what is kept in them.
package immutable

import (
	"iter"
	"maps"
)

const width = 128 // values of a page

// Vector is a list. The zero value is empty.
type Vector[T any] struct {
	pages []*[width]T
	n     int
}

// VectorOf takes over a slice, which must not be changed afterwards.
func VectorOf[T any](all []T) Vector[T] {
	v := Vector[T]{n: len(all)}
	for len(all) >= width {
		v.pages = append(v.pages, (*[width]T)(all))
		all = all[width:]
	}
	if len(all) > 0 {
		last := new([width]T)
		copy(last[:], all)
		v.pages = append(v.pages, last)
	}
	return v
}

// Len returns how many values there are.
func (v Vector[T]) Len() int { return v.n }

// At returns a value, which must not be changed.
func (v Vector[T]) At(i int) *T { return &v.pages[i/width][i%width] }

// Different returns the indexes at which two vectors have other values, or of which only one
// has a value. What they share is not looked at.
func Different[T comparable](a, b Vector[T]) iter.Seq[int] {
	return func(yield func(int) bool) {
		for p := range max(len(a.pages), len(b.pages)) {
			if p < len(a.pages) && p < len(b.pages) && a.pages[p] == b.pages[p] && a.n == b.n {
				continue
			}
			for i := p * width; i < min((p+1)*width, max(a.n, b.n)); i++ {
				if (i >= min(a.n, b.n) || *a.At(i) != *b.At(i)) && !yield(i) {
					return
				}
			}
		}
	}
}

// Edit begins a new version.
func (v Vector[T]) Edit() *vectorEdit[T] {
	pages := make([]*[width]T, len(v.pages), len(v.pages)+1)
	copy(pages, v.pages)
	return &vectorEdit[T]{Vector[T]{pages, v.n}, map[int]bool{}}
}

// vectorEdit is a new version in the making.
type vectorEdit[T any] struct {
	v   Vector[T]
	own map[int]bool
}

// Set replaces a value.
func (e *vectorEdit[T]) Set(i int, x T) {
	p := i / width
	if !e.own[p] {
		page := *e.v.pages[p]
		e.v.pages[p] = &page
		e.own[p] = true
	}
	e.v.pages[p][i%width] = x
}

// Len returns how many values there are by now.
func (e *vectorEdit[T]) Len() int { return e.v.n }

// At returns a value as it stands, which must not be changed.
func (e *vectorEdit[T]) At(i int) *T { return e.v.At(i) }

// Append adds a value and gives its index.
func (e *vectorEdit[T]) Append(x T) int {
	i := e.v.n
	if i%width == 0 {
		e.v.pages = append(e.v.pages, new([width]T))
		e.own[i/width] = true
	}
	e.v.n++
	e.Set(i, x)
	return i
}

// Done returns the new version; the edit must not be used any more.
func (e *vectorEdit[T]) Done() Vector[T] { return e.v }

// Map finds values by keys. The zero value is empty.
type Map[K comparable, V any] struct{ base, late map[K]V }

// MapOf takes over a map, which must not be changed afterwards.
func MapOf[K comparable, V any](m map[K]V) Map[K, V] { return Map[K, V]{base: m} }

// Get finds the value of a key.
func (m Map[K, V]) Get(k K) (V, bool) {
	if len(m.late) > 0 {
		if v, ok := m.late[k]; ok {
			return v, true
		}
	}
	v, ok := m.base[k]
	return v, ok
}

// With returns a version with other values for some keys, and takes over the map. Late changes are kept
// apart until they are many: most versions cost a copy of those alone.
func (m Map[K, V]) With(changes map[K]V) Map[K, V] {
	if len(changes) == 0 {
		return m
	}
	if m.base == nil && m.late == nil {
		return Map[K, V]{base: changes}
	}
	if len(m.late)+len(changes) > 64+len(m.base)/64 {
		base := make(map[K]V, len(m.base)+len(m.late)+len(changes))
		maps.Copy(base, m.base)
		maps.Copy(base, m.late)
		maps.Copy(base, changes)
		return Map[K, V]{base: base}
	}
	late := make(map[K]V, len(m.late)+len(changes))
	maps.Copy(late, m.late)
	maps.Copy(late, changes)
	return Map[K, V]{m.base, late}
}

// All returns every key with its value, in no order.
func (m Map[K, V]) All() iter.Seq2[K, V] {
	return func(yield func(K, V) bool) {
		for k, v := range m.base {
			if len(m.late) > 0 {
				if _, over := m.late[k]; over {
					continue
				}
			}
			if !yield(k, v) {
				return
			}
		}
		for k, v := range m.late {
			if !yield(k, v) {
				return
			}
		}
	}
}
