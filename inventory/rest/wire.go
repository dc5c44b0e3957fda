package rest

import (
	"time"

	"lucidorchard/inventory"
	"lucidorchard/server"
)

// Selection is a filter of a list under a name.
type Selection struct {
	List   string    `json:"list"`
	Name   string    `json:"name"`
	Filter string    `json:"filter" doc:"The query of the page's address"`
	Author string    `json:"author"`
	At     time.Time `json:"at"`
}

// Source is an inventory source.
type Source struct {
	Name    string            `json:"name"`
	Rank    int               `json:"rank" doc:"The lower one's values win"`
	Mapping map[string]string `json:"mapping,omitempty" doc:"What the headings of its files are"`
	Taken   *time.Time        `json:"taken,omitempty" doc:"When it was heard last"`
	Whole   *time.Time        `json:"whole,omitempty" doc:"When it last gave its complete list"`
	Listed  int               `json:"listed" doc:"Workloads that it lists"`
	Tags    int               `json:"tags" doc:"Tag values that it has"`
}

// Token lets a script feed one source.
type Token struct {
	ID      int64      `json:"id"`
	Name    string     `json:"name"`
	Source  string     `json:"source" doc:"That it feeds"`
	Release bool       `json:"releases" doc:"It may release policies, and feeds nothing"`
	Author  string     `json:"author"`
	Made    time.Time  `json:"made"`
	Used    *time.Time `json:"used,omitempty"`
	Revoked *time.Time `json:"revoked,omitempty"`
}

// FormerValue is what a source or a person said of a tag before.
type FormerValue struct {
	SourceValue
	Until time.Time `json:"until"`
}

// RefusedTag is a suggestion that somebody said is wrong.
type RefusedTag struct {
	Workload string    `json:"workload"`
	Key      string    `json:"key"`
	Value    string    `json:"value"`
	Author   string    `json:"author"`
	At       time.Time `json:"at"`
}

// SourceValue is what one source says of one tag.
type SourceValue struct {
	Workload string    `json:"workload"`
	Key      string    `json:"key"`
	Source   string    `json:"source"`
	Value    string    `json:"value"`
	Author   string    `json:"author"`
	At       time.Time `json:"at"`
}

func newSource(s inventory.Source) Source {
	return Source{s.Name, s.Rank, s.Mapping, s.Taken, s.Whole, s.Listed, s.Tags}
}

func newSourceValue(v inventory.SourceValue) SourceValue { return SourceValue(v) }

func newFormerValue(v inventory.FormerValue) FormerValue {
	return FormerValue{newSourceValue(v.SourceValue), v.Until}
}

// TagOf is a tag of a workload.
type TagOf struct {
	Workload string `json:"workload"`
	Key      string `json:"key"`
	Value    string `json:"value"`
}

// named is a workload with its name.
type named struct {
	ID   string `json:"id"`
	Name string `json:"name"`
}

// Suggestion is a tag that a workload lacks, suggested by what resembles it.
type Suggestion struct {
	Workload string   `json:"workload"`
	Name     string   `json:"name"`
	Key      string   `json:"key"`
	Value    string   `json:"value"`
	Likeness float64  `json:"likeness" doc:"Of those that it resembles, 0 to 1"`
	Right    float64  `json:"right" doc:"Share of tried for which the same judgement finds the tag that they have, 0 to 1"`
	Tried    int      `json:"tried" doc:"Workloads that have the tag and that are judged at least as surely"`
	Like     []named  `json:"like" doc:"Those that have it, the most alike first; at most 5"`
	Because  []string `json:"because" doc:"What it shares with them, the most telling first"`
}

// SuggestionList is all suggestions for what is missing now.
type SuggestionList struct {
	Total       int                 `json:"total"`
	Suggestions []Suggestion        `json:"suggestions"`
	Complete    bool                `json:"complete" doc:"Whether they are current; if not, they are being computed, and an event follows"`
	Done        float64             `json:"done" doc:"How much of finding them is done, 0 to 1"`
	Lacking     int                 `json:"lacking" doc:"Structural tags that workloads lack"`
	Refused     []refusedSuggestion `json:"refused" doc:"Those that somebody refused"`
}

// refusedSuggestion is a suggestion that somebody said is wrong.
type refusedSuggestion struct {
	RefusedTag
	Name string `json:"name" doc:"Of the workload"`
}

func newSuggestions(l inventory.SuggestionList) SuggestionList {
	return SuggestionList{len(l.Suggestions), server.Each(l.Suggestions, newSuggestion), l.Complete, l.Done, l.Lacking,
		server.Each(l.Refused, func(r inventory.RefusedSuggestion) refusedSuggestion {
			return refusedSuggestion{RefusedTag(r.RefusedTag), r.Name}
		})}
}

func newSuggestion(g inventory.Suggestion) Suggestion {
	return Suggestion{g.Workload, g.Name, g.Key, g.Value, g.Likeness, g.Right, g.Tried,
		server.Each(g.Like, func(n inventory.Named) named { return named(n) }), g.Because}
}

func tagOf(t TagOf) inventory.TagOf { return inventory.TagOf(t) }
