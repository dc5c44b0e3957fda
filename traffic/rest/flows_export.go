package rest

import (
	"bufio"

	// Flows as CSV.
	"context"
	"encoding/json"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/ingest"
	"lucidorchard/ledger"
	"lucidorchard/server"
)

// exportLedger returns the rows of the ledger, without their callers.
func (s *Flows) exportLedger(ctx context.Context, in *struct {
	answers.Window
	ledger.Filter
}) (*huma.StreamResponse, error) {
	v, _, q, err := s.Asked(ctx, in.Window, in.Filter)
	if err != nil {
		return nil, err
	}
	rows := v.Served(q)
	return server.StreamCSV("ledger.csv", func(w *ingest.CSV) {
		_ = w.Write([]string{"name", "kind", "service", "conversations", "permit", "reject", "uncovered",
			"connections", "bytes", "leaks", "chokes", "other_sides", "rules", "first", "last"})
		for _, r := range rows {
			var rules []string
			for _, l := range r.Rules {
				rules = append(rules, strconv.Itoa(l))
			}
			_ = w.Write([]string{r.Text, r.Kind, r.Point.String(), strconv.Itoa(r.Conversations),
				strconv.Itoa(r.Counts[decide.Permit]), strconv.Itoa(r.Counts[decide.Reject]),
				strconv.Itoa(r.Counts[decide.Uncovered]),
				strconv.FormatInt(r.Connections, 10), strconv.FormatInt(r.Bytes, 10), strconv.Itoa(r.Leaks),
				strconv.Itoa(r.Chokes), strconv.Itoa(r.OtherCount), strings.Join(rules, " "), r.First.String(),
				r.Last.String()})
		}
	}), nil
}

// exportConversationLines returns an object a line, as the list of conversations
// has it.
func (s *Flows) exportConversationLines(ctx context.Context,
	in *struct{ answers.ConversationFilter }) (*huma.StreamResponse, error) {
	v, _, found, err := s.SelectConversations(ctx, in.ConversationFilter)
	if err != nil {
		return nil, err
	}
	return &huma.StreamResponse{Body: func(ctx huma.Context) {
		ctx.SetHeader("Content-Type", "application/jsonl")
		ctx.SetHeader("Content-Disposition", `attachment; filename="conversations.jsonl"`)
		w := bufio.NewWriter(ctx.BodyWriter())
		defer w.Flush()
		e := json.NewEncoder(w)
		for _, i := range found {
			if e.Encode(answers.NewConversationOut(v, i)) != nil {
				return // nobody reads any more
			}
		}
	}}, nil
}

func (s *Flows) exportConversations(ctx context.Context, in *struct{ answers.ConversationFilter }) (
	*huma.StreamResponse,
	error) {
	v, _, found, err := s.SelectConversations(ctx, in.ConversationFilter)
	if err != nil {
		return nil, err
	}
	return server.StreamCSV("conversations.csv", func(w *ingest.CSV) {
		_ = w.Write([]string{"client", "client_address", "server", "server_address", "service", "verdict", "rule",
			"connections", "bytes", "carried", "dropped", "first", "last"})
		for _, i := range found {
			c := v.At(i)
			line := ""
			if c.Rule != nil {
				line = strconv.Itoa(c.Rule.Line)
			}
			n := func(v int64) string { return strconv.FormatInt(v, 10) }
			name := func(p decide.Placed) string {
				if p.Workload == estate.Outside {
					return ""
				}
				return v.Name(p)
			}
			_ = w.Write([]string{name(c.Client), c.Client.Addr.String(), name(c.Server), c.Server.Addr.String(),
				c.Point.String(), c.Verdict.String(), line,
				n(c.Connections), n(c.Bytes), n(c.Carried), n(c.Dropped), c.First.String(), c.Last.String()})
		}
	}), nil
}
