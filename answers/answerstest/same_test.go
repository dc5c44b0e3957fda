package answerstest

import (
	"reflect"
	"testing"
	"time"
)

type row struct {
	Name, Author string
	At, Until    time.Time
	Parts        []part
	Only         *part
	secret       string
}

type part struct{ From, To int64 }

type partOut struct{ From, To int64 }

type answer struct {
	Name, Author string
	At           time.Time
	Parts        []partOut
	Only         *partOut
	Words        string
}

func good(r row) answer {
	out := answer{Name: r.Name, Author: r.Author, At: r.At, Only: (*partOut)(r.Only), Words: r.secret + "computed"}
	for _, p := range r.Parts {
		out.Parts = append(out.Parts, partOut(p))
	}
	return out
}

// What carries all passes; each field that is swapped, lost or unknown is noticed.
func TestSame(t *testing.T) {
	Same(t, good, "Words")
	noticed := func(what string, but []string, f func(row) answer) {
		var fake testing.T
		var r row
		n := 0
		fill(reflect.ValueOf(&r).Elem(), &n)
		compare(&fake, what, reflect.ValueOf(r), reflect.ValueOf(f(r)), but)
		if !fake.Failed() {
			t.Errorf("%s: was not noticed", what)
		}
	}
	noticed("swapped", []string{"Words"}, func(r row) answer {
		out := good(r)
		out.Name, out.Author = out.Author, out.Name
		return out
	})
	noticed("another time", []string{"Words"}, func(r row) answer {
		out := good(r)
		out.At = r.Until
		return out
	})
	noticed("swapped inside", []string{"Words"}, func(r row) answer {
		out := good(r)
		out.Parts[1].From, out.Parts[1].To = out.Parts[1].To, out.Parts[1].From
		return out
	})
	noticed("lost", []string{"Words"}, func(r row) answer {
		out := good(r)
		out.Only = nil
		return out
	})
	noticed("one of two", []string{"Words"}, func(r row) answer {
		out := good(r)
		out.Parts = out.Parts[:1]
		return out
	})
	noticed("made from nothing", nil, good)
}
