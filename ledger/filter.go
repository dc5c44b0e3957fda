// Package ledger has what a ledger of conversations is filtered by: as an address asks for
// it, and as a notice keeps it.
//
// It must not know HTTP or a store. Start reading at Filter.
package ledger

import (
	"errors"
	"fmt"
	"net/url"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"lucidorchard/core/decide"
	"lucidorchard/core/expr"
	"lucidorchard/core/plan"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/core/service"
	"lucidorchard/model"
	"lucidorchard/refuse"
)

// Filter selects conversations.
type Filter struct {
	Verdict  []string `query:"verdict" doc:"permit, reject, uncovered; none is all" enum:"permit,reject,uncovered"`
	Odd      bool     `query:"odd" doc:"Only leaks and chokes"`
	Turn     string   `query:"turn" enum:"reached,reaches" default:"reached" doc:"Who reaches it, or what it reaches"`
	Text     string   `query:"q"`
	Rule     int      `query:"rule" doc:"Only conversations that the rule on this line decides"`
	Group    string   `query:"group" doc:"Only conversations to members of this group, or from them"`
	Workload string   `query:"workload" doc:"Only conversations to the workload with this id, or from it"`
	Against  int      `query:"against" doc:"A revision of the policy to compare with"`
	Was      []string `query:"was" doc:"Only conversations with these verdicts" enum:"permit,reject,uncovered"`

	Client   string `query:"clients" doc:"An expression that the client agrees with"`
	Server   string `query:"servers" doc:"An expression that the server agrees with"`
	Services string `query:"services" doc:"Names of services of the policy, or specs such as tcp/443; separated by commas"`
	Outcome  string `query:"outcome" enum:",carried,dropped,unknown" doc:"What the network did with it"`
	MinBytes int64  `query:"bytes" minimum:"0" doc:"At least so many"`
	New      bool   `query:"new" doc:"Only conversations without earlier traffic"`
	Unsure   bool   `query:"unsure" doc:"Only conversations whose direction is uncertain"`
	By       string `query:"by" doc:"A tag that the sides are called by, instead of their groups; ~area and ~owner are the areas of the policy and whose they are"`
	For      string `query:"for" doc:"Only conversations with an end in this part of the estate: area:NAME, owner:NAME or KEY:VALUE, a tag"`
	Asking   bool   `query:"asking" doc:"Without rejected conversations that a probe accepts"`
	Aside    string `query:"aside" doc:"Only conversations that the newest derivation set aside for this reason; all: for any reason"`
	Wave     int    `query:"wave" minimum:"0" doc:"Only running conversations that the newest release rejects at the points of this wave"`
	MapKeys
	Path []string `query:"path" doc:"Ways over the map: column and row of the client, column and row of the server, separated by |; blank is any"`
}

// MapKeys are the tags that make the columns and the rows of the map.
type MapKeys struct {
	Columns string `query:"columns" default:"env"`
	Rows    string `query:"rows" default:"tier"`
	AllRows bool   `query:"allRows" doc:"A row for each value; else the smaller ones are one row, ~others"`
}

// Keys returns them as the map takes them.
func (k MapKeys) Keys() reach.MapKeys {
	return reach.MapKeys{Columns: k.Columns, Rows: k.Rows, All: k.AllRows}
}

// Query reads a filter, but for what was set aside.
func (f Filter) Query(snap *model.Model) (reach.Query, error) {
	q := reach.Query{Group: f.Group, Leaks: f.Odd, Turn: f.Turn == "reaches", Text: f.Text, Rule: f.Rule,
		Verdicts: verdicts(f.Verdict)}
	if f.Against != 0 {
		q.Was = verdicts(f.Was)
	}
	if f.Group != "" && snap.Policy.Groups[f.Group] == nil {
		return q, refuse.Missing("there is no group " + f.Group)
	}
	if f.Workload != "" {
		i, ok := snap.Estate.ByID(f.Workload)
		if !ok {
			return q, refuse.Missing("there is no workload with the id " + f.Workload)
		}
		q.Workload = &i
	}
	q.By, q.Asking, q.Acceptance = f.By, f.Asking, snap.Acceptance()
	if f.For != "" {
		part, ok := reach.ReadPart(f.For)
		if !ok {
			return q, refuse.Invalid(fmt.Sprintf("for: found %q, expected area:NAME, owner:NAME "+
				"or KEY:VALUE", f.For))
		}
		q.Part = &part
	}
	return q, f.narrow(snap, &q.Filter)
}

// EndOf reads an expression that an end of a conversation has to match; nil: any end
// matches. name is what the errors call it.
func EndOf(m *model.Model, name, text string) (*expr.Expr, error) {
	if text == "" {
		return nil, nil
	}
	e, errs := expr.ParseText(text)
	if len(errs) > 0 {
		return nil, refuse.Invalid(fmt.Sprintf("%s: at character %d: %s", name, errs[0].Col, errs[0].Message))
	}
	if unknown := plan.UnknownGroup(m.Compiled, e); unknown != "" {
		return nil, refuse.Invalid(fmt.Sprintf("%s: the draft has no group %s", name, unknown))
	}
	return e, nil
}

// narrow reads the part of the filter that speaks of each conversation.
func (f Filter) narrow(snap *model.Model, to *reach.Filter) error {
	to.Outcome, to.MinBytes, to.New, to.Unsure = f.Outcome, f.MinBytes, f.New, f.Unsure
	to.Map = f.Keys()
	for _, side := range []struct {
		name, text string
		to         **expr.Expr
	}{{"clients", f.Client, &to.Client}, {"servers", f.Server, &to.Server}} {
		e, err := EndOf(snap, side.name, side.text)
		if err != nil {
			return err
		}
		*side.to = e
	}
	for _, word := range strings.FieldsFunc(f.Services, func(r rune) bool { return r == ',' || r == ' ' }) {
		if to.Services == nil {
			to.Services = service.Set{}
		}
		if snap.Policy.Services[word] != nil {
			to.Services = to.Services.Union(snap.Policy.Points(policy.Services{Specs: []policy.Spec{{Service: word}}}))
			continue
		}
		r, ok, err := service.ParseSpec(strings.ToLower(word))
		if !ok || err != nil {
			return refuse.Invalid(fmt.Sprintf("services: found %q, expected the name of a "+
				"service of the policy, or a spec such as tcp/443", word))
		}
		to.Services = to.Services.Union(service.NewSet(r))
	}
	for _, path := range f.Path {
		parts := strings.Split(path, "|")
		if len(parts) != 4 {
			return refuse.Invalid(fmt.Sprintf("path: found %q, expected four names separated by |",
				path))
		}
		to.Paths = append(to.Paths, reach.Path{ClientColumn: parts[0], ClientRow: parts[1], ServerColumn: parts[2],
			ServerRow: parts[3]})
	}
	return nil
}

func verdicts(names []string) (out [3]bool) {
	for _, v := range decide.Verdicts {
		out[v] = slices.Contains(names, v.String())
	}
	return out
}

// FilterFrom reads a filter from the parts of an address; what is no part of a filter is an error.
func FilterFrom(values url.Values) (Filter, error) {
	var f Filter
	fields := map[string]reflect.Value{}
	allowed := map[string]string{}
	var gather func(v reflect.Value)
	gather = func(v reflect.Value) {
		for i := range v.NumField() {
			field := v.Type().Field(i)
			if field.Anonymous {
				gather(v.Field(i))
				continue
			}
			name := field.Tag.Get("query")
			fields[name], allowed[name] = v.Field(i), field.Tag.Get("enum")
			if text := field.Tag.Get("default"); text != "" {
				v.Field(i).SetString(text)
			}
		}
	}
	gather(reflect.ValueOf(&f).Elem())
	for name, texts := range values {
		to, known := fields[name]
		if !known {
			return f, refuse.Invalid(fmt.Sprintf("filter: found %q, which is not a parameter of a ledger filter", name))
		}
		for _, text := range texts {
			if enum := allowed[name]; enum != "" && !slices.Contains(strings.Split(enum, ","), text) {
				return f, refuse.Invalid(fmt.Sprintf("filter: %s: found %q, expected one of %s", name, text, enum))
			}
			if err := put(to, text); err != nil {
				return f, refuse.Invalid(fmt.Sprintf("filter: %s: found %q, expected %s", name, text, err))
			}
		}
	}
	return f, nil
}

// put reads a value of a part of an address.
func put(to reflect.Value, text string) error {
	switch to.Kind() {
	case reflect.Bool:
		b, err := strconv.ParseBool(text)
		if err != nil {
			return errors.New("true or false")
		}
		to.SetBool(b)
	case reflect.Int, reflect.Int64:
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil || n < 0 {
			return errors.New("a whole number, 0 or more")
		}
		to.SetInt(n)
	case reflect.Slice:
		to.Set(reflect.Append(to, reflect.ValueOf(text)))
	default:
		to.SetString(text)
	}
	return nil
}
