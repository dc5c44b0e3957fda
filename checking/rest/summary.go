package rest

import (
	"context"
	"strings"

	"lucidorchard/answers"
	"lucidorchard/core/decide"
	"lucidorchard/core/reach"
	"lucidorchard/drafting"
	"lucidorchard/model"
	"lucidorchard/server"
)

// Summary is the one fact of each step of the work, and what needs attention.
type Summary struct {
	Estate        string  `json:"estate"`
	MadeUp        bool    `json:"madeUp,omitempty" doc:"The estate is the made-up company, which can be removed"`
	Author        string  `json:"author"`
	Workloads     int     `json:"workloads"`
	LackKey       string  `json:"lackKey,omitempty" doc:"The structural tag that most workloads lack"`
	Lack          int     `json:"lack"`
	Groups        int     `json:"groups"`
	Undecided     int     `json:"undecided" doc:"Groups with undecided members"`
	Conversations int     `json:"conversations"`
	Rules         int     `json:"rules"`
	Decided       float64 `json:"decided" doc:"Share of the conversations that some rule decides"`
	Uncovered     int     `json:"uncovered"`
	Revision      int     `json:"revision"`

	Undo      *answers.Change `json:"undo,omitempty"`
	Redo      *answers.Change `json:"redo,omitempty"`
	Example   string          `json:"example,omitempty" doc:"A question about traffic of the window, as the ask bar takes it"`
	Proposals int             `json:"proposals" doc:"Of the newest derivation, those that are still to be judged"`
}

// Summaries answers about the fact of each step, and what is wrong.
type Summaries struct {
	*answers.Desk
	*drafting.Service
	Company Company
}

// Company returns the name of the estate, and whether it is the made-up one.
type Company func(context.Context) (name string, madeUp bool, err error)

func (s *Summaries) Routes(r server.Routes) {
	server.Get(r, "read-summary", "/summary", "The figures of every step of the work", s.summary)
}

func (s *Summaries) summary(ctx context.Context, in *struct{ answers.Window }) (*server.Body[Summary], error) {
	v, snap, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	name, madeUp, err := s.Company(ctx)
	if err != nil {
		return nil, err
	}
	out := Summary{Estate: name, MadeUp: madeUp, Author: s.Author, Groups: len(snap.Policy.GroupOrder), Conversations: v.Len(),
		Rules: len(snap.Policy.Rules), Revision: snap.Head.No}
	lacks := map[string]int{}
	for i, w := range snap.Estate.All() {
		if !w.Retired.IsZero() {
			continue
		}
		out.Workloads++
		for _, k := range snap.Structural {
			if snap.Missing(i, k) {
				lacks[k]++
			}
		}
	}
	for _, n := range snap.Counts() {
		if n.Undecided > 0 {
			out.Undecided++
		}
	}
	for _, k := range snap.Structural {
		if lacks[k] > out.Lack {
			out.LackKey, out.Lack = k, lacks[k]
		}
	}
	undo, redo, err := s.Undoable(ctx)
	if err != nil {
		return nil, err
	}
	out.Undo, out.Redo = answers.NewChange(undo), answers.NewChange(redo)
	if out.Proposals, err = s.Waiting(ctx, snap); err != nil {
		return nil, err
	}
	out.Example = example(snap, v)
	t := v.Totals(reach.Query{Count: answers.LiveStore})
	out.Uncovered = t.Conversations[decide.Uncovered]
	if n := t.Conversations.Sum(); n > 0 {
		out.Decided = 1 - float64(out.Uncovered)/float64(n)
	}
	return server.OK(out), nil
}

// example returns a question that the ask bar answers: about the first conversation between two
// workloads whose names are theirs alone, and nothing if there is none among the first few: each name is looked for among all workloads.
func example(snap *model.Model, v *reach.View) string {
	for i := range min(20, v.Len()) {
		c := v.At(i)
		if c.Client.Workload < 0 || c.Server.Workload < 0 {
			continue
		}
		client, server := v.Name(c.Client), v.Name(c.Server)
		if named(snap, client) && named(snap, server) {
			return client + " -> " + server + " " + c.Point.String()
		}
	}
	return ""
}

// named reports whether a word of a question names one endpoint.
func named(snap *model.Model, word string) bool {
	_, problem := endpoint(snap, word)
	return problem == "" && !strings.ContainsAny(word, " \t\"")
}
