package answers

import (
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
)

// TagOut is a tag as it is shown.
type TagOut struct {
	Key    string    `json:"key"`
	Value  string    `json:"value"`
	Source string    `json:"source"`
	ByHand bool      `json:"byHand"`
	By     string    `json:"by"`
	At     time.Time `json:"at"`
}

func NewTagOut(t estate.Tag) TagOut {
	return TagOut{t.Key, t.Value, t.Source, t.Source == estate.ByHand, t.By, t.At}
}

// ReasonOut is one part of an expression that settled its answer.
type ReasonOut struct {
	Text    string      `json:"text"`
	Truth   string      `json:"truth" enum:"yes,no,undecided"`
	Key     string      `json:"key,omitempty"`
	Value   string      `json:"value,omitempty"`
	Tag     *TagOut     `json:"tag,omitempty"`
	Missing bool        `json:"missing,omitempty" doc:"The workload does not have the key"`
	Group   string      `json:"group,omitempty"`
	Kids    []ReasonOut `json:"kids,omitempty"`
}

func ReasonsOut(rs []expr.Reason) []ReasonOut {
	out := []ReasonOut{}
	for _, r := range rs {
		o := ReasonOut{Text: r.Text, Truth: r.Truth.String(), Key: r.Key, Value: r.Value, Missing: r.Missing,
			Group: r.Group}
		if r.Tag != nil {
			t := NewTagOut(*r.Tag)
			o.Tag = &t
		}
		if len(r.Kids) > 0 {
			o.Kids = ReasonsOut(r.Kids)
		}
		out = append(out, o)
	}
	return out
}

// RuleRef names a rule.
type RuleRef struct {
	Line     int    `json:"line"`
	Sentence string `json:"sentence" doc:"The rule as it stands in the text, without its note"`
	Note     string `json:"note,omitempty"`
	Layer    string `json:"layer"`
	Verdict  string `json:"verdict" enum:"permit,reject"`
	Author   string `json:"author,omitempty"`
	At       string `json:"at,omitempty"`
}

func NewRuleRef(r *policy.Rule) *RuleRef {
	if r == nil {
		return nil
	}
	bare := *r
	bare.Note = ""
	return &RuleRef{Line: r.Line, Sentence: bare.String(), Note: r.Note, Layer: r.Layer.Name,
		Verdict: decide.VerdictOf(r).String()}
}

// EndpointOut is one end of a conversation.
type EndpointOut struct {
	Addr     string `json:"addr"`
	Workload string `json:"workload,omitempty" doc:"Id; empty for outside"`
	Name     string `json:"name"`
	Label    string `json:"label" doc:"What the ledger calls it"`
	Lack     string `json:"lack,omitempty" doc:"A structural tag that it lacks"`
}

func NewEndpointOut(v *reach.View, p decide.Placed, l reach.Label) EndpointOut {
	out := EndpointOut{Addr: p.Addr.String(), Name: v.Name(p), Label: l.Text, Lack: l.Lack}
	if p.Workload != estate.Outside {
		out.Workload = v.Compiled.Estate.Workload(p.Workload).ID
	}
	return out
}

// CountsOut has a number for each verdict.
type CountsOut struct {
	Permit    int `json:"permit"`
	Reject    int `json:"reject"`
	Uncovered int `json:"uncovered"`
}

func NewCountsOut(c reach.Counts) CountsOut {
	return CountsOut{c[decide.Permit], c[decide.Reject], c[decide.Uncovered]}
}

func Items(l policy.List) []string {
	out := []string{}
	if l.Any {
		out = append(out, "any")
	}
	for _, o := range l.Items {
		out = append(out, o.String())
	}
	return out
}
