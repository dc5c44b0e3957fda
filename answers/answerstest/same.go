// Package answerstest checks that answers carry what they are made from.
package answerstest

import (
	"fmt"
	"reflect"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// Same checks a function that makes an answer W from a D: each field of the answer has the value of
// the field of D with its name, also in what is nested. D is filled with values no two of which are
// alike, so that no two fields can be swapped. Fields that are computed are named in but.
func Same[D, W any](t *testing.T, make func(D) W, but ...string) {
	t.Helper()
	var d D
	n := 0
	fill(reflect.ValueOf(&d).Elem(), &n)
	compare(t, fmt.Sprintf("%T", d), reflect.ValueOf(d), reflect.ValueOf(make(d)), but)
}

// fill sets all exported fields; n counts the values.
func fill(v reflect.Value, n *int) {
	*n++
	switch v.Kind() {
	case reflect.Struct:
		if v.Type() == reflect.TypeFor[time.Time]() {
			v.Set(reflect.ValueOf(time.Unix(1_790_000_000+int64(*n), 0).UTC()))
			return
		}
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				fill(v.Field(i), n)
			}
		}
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		fill(v.Elem(), n)
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 2, 2))
		fill(v.Index(0), n)
		fill(v.Index(1), n)
	case reflect.String:
		v.SetString(fmt.Sprint("value ", *n))
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		v.SetInt(int64(*n))
	case reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		v.SetUint(uint64(*n % 256))
	case reflect.Float64:
		v.SetFloat(float64(*n))
	case reflect.Bool:
		v.SetBool(true)
	}
}

func compare(t *testing.T, at string, d, w reflect.Value, but []string) {
	t.Helper()
	switch {
	case w.Type() == d.Type():
		assert.Equal(t, d.Interface(), w.Interface(), at)
	case w.Kind() == reflect.Pointer:
		if assert.False(t, w.IsNil(), at) {
			compare(t, at, reflect.Indirect(d), w.Elem(), but)
		}
	case w.Kind() == reflect.Slice:
		if assert.Equal(t, d.Len(), w.Len(), at) {
			for i := range w.Len() {
				compare(t, fmt.Sprintf("%s[%d]", at, i), d.Index(i), w.Index(i), but)
			}
		}
	case w.Kind() == reflect.Struct:
		for i := range w.NumField() {
			name := w.Type().Field(i).Name
			if slices.Contains(but, name) {
				continue
			}
			of := d.FieldByName(name)
			if assert.True(t, of.IsValid(), "%s has no %s", at, name) {
				compare(t, at+"."+name, of, w.Field(i), but)
			}
		}
	default:
		assert.Equal(t, fmt.Sprint(d.Interface()), fmt.Sprint(w.Interface()), at)
	}
}
