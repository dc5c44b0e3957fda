package rest

import (
	"bufio"

	// Every flow with its names and both outcomes, for a store of logs.
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/reach"
	"lucidorchard/ledger"
	"lucidorchard/model"
	"lucidorchard/refuse"
	"lucidorchard/server"
)

// FedFlow is what two ends had to do with each other on a service in an hour, as a line
// of the feed.
type FedFlow struct {
	ID          string            `json:"id"` // the same when the hour is told again: then with what is known by then
	Hour        string            `json:"hour"`
	Client      string            `json:"client"` // address
	ClientName  string            `json:"clientName"`
	ClientLabel string            `json:"clientLabel"` // group
	ClientTags  map[string]string `json:"clientTags,omitempty"`
	Server      string            `json:"server"`
	ServerName  string            `json:"serverName"`
	ServerLabel string            `json:"serverLabel"`
	ServerTags  map[string]string `json:"serverTags,omitempty"`
	Service     string            `json:"service"`
	Connections int64             `json:"connections"`
	Bytes       int64             `json:"bytes"`
	Carried     int64             `json:"carried"` // connections of each outcome; the rest is not known
	Dropped     int64             `json:"dropped"`
	First       string            `json:"first"`
	Last        string            `json:"last"`
	Observer    string            `json:"observer,omitempty"`
	Draft       string            `json:"draft"`             // verdict of the draft
	Verdict     string            `json:"verdict"`           // of what was held at the time; where nothing was, of the draft
	Release     int               `json:"release,omitempty"` // that gave it; none: the draft
	Rule        string            `json:"rule,omitempty"`
	Fate        string            `json:"fate,omitempty"` // leak, or choke
}

// FedCursor ends what is told at a time: whoever comes back with it gets what changed
// since.
type FedCursor struct {
	Cursor int64 `json:"cursor"`
}

// serveFlows sends the hours that changed since a cursor, the longest unchanged first,
// each followed by the cursor that it leads to, as JSON Lines; with follow it goes on as
// traffic comes.
func (s *Watching) serveFlows(w http.ResponseWriter, r *http.Request) {
	asked := r.URL.Query()
	cursor := int64(0)
	if text := asked.Get("cursor"); text != "" {
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil || n < 0 {
			server.WriteProblem(w,
				huma.Error422UnprocessableEntity(fmt.Sprintf("cursor: found %q, expected the number of a cursor line",
					text)))
			return
		}
		cursor = n
	}
	parts := maps.Clone(asked)
	delete(parts, "cursor")
	delete(parts, "follow")
	filter, err := ledger.FilterFrom(parts)
	var m *model.Model
	if err == nil {
		m, err = s.Snapshot(r.Context())
	}
	if err == nil && filter.Against != 0 {
		err = refuse.Invalid("against: found a revision; the feed compares with none")
	}
	if err == nil {
		_, err = s.Ledger.QueryOf(r.Context(), m, filter)
	}
	if err != nil {
		server.WriteProblem(w, s.Failed(r.Context(), err))
		return
	}
	w.Header().Set("Content-Type", "application/jsonl")
	w.Header().Set("Cache-Control", "no-store")
	out := bufio.NewWriter(w)
	control := http.NewResponseController(w)
	for {
		_, next := s.Kit.Events.Next()
		if m, err = s.Snapshot(r.Context()); err != nil {
			return // whoever reads comes back with the last cursor
		}
		if cursor, err = s.feed(r.Context(), out, m, filter, cursor); err != nil {
			return
		}
		if out.Flush() != nil || control.Flush() != nil || asked.Get("follow") != "true" {
			return
		}
		select {
		case <-next:
		case <-r.Context().Done():
			return
		case <-s.Kit.Done:
			return
		case <-time.After(25 * time.Second):
			_, _ = out.WriteString("\n") // somebody is still there
		}
	}
}

// feed writes the hours that changed since a cursor, and returns the cursor after them.
func (s *Watching) feed(ctx context.Context, out *bufio.Writer, m *model.Model, filter ledger.Filter,
	cursor int64) (int64, error) {
	var hours []flow.Hour
	for hour, version := range m.Hours {
		if version > cursor {
			hours = append(hours, hour)
		}
	}
	slices.SortFunc(hours, func(a, b flow.Hour) int {
		return cmp.Or(cmp.Compare(m.Hours[a], m.Hours[b]),
			cmp.Compare(a, b))
	})
	q, err := s.Ledger.QueryOf(ctx, m, filter)
	if err != nil {
		return cursor, err
	}
	lines := json.NewEncoder(out)
	for i, hour := range hours {
		if ctx.Err() != nil {
			return cursor, ctx.Err()
		}
		v := m.Stretch(hour, hour+1)
		for _, i := range v.Select(q) {
			if err := lines.Encode(fedFlow(v, hour, i)); err != nil {
				return cursor, err
			}
		}
		// Hours of one version are told together: a cursor between them would skip some.
		if i+1 == len(hours) || m.Hours[hours[i+1]] != m.Hours[hour] {
			cursor = m.Hours[hour]
			if err := lines.Encode(FedCursor{cursor}); err != nil {
				return cursor, err
			}
		}
	}
	return cursor, nil
}

func fedFlow(v *reach.View, hour flow.Hour, i int) FedFlow {
	c := v.At(i)
	a, b := v.Labels(i)
	r := v.Ruling(i)
	at := hour.Start().String()
	sum := sha256.Sum256([]byte(fmt.Sprint(at, c.Client.Endpoint, c.Server.Endpoint, c.Point)))
	out := FedFlow{ID: hex.EncodeToString(sum[:10]), Hour: at, Client: c.Client.Addr.String(),
		ClientName: v.Name(c.Client), ClientLabel: a.Text,
		ClientTags: tagsOf(v, c.Client), Server: c.Server.Addr.String(), ServerName: v.Name(c.Server),
		ServerLabel: b.Text,
		ServerTags:  tagsOf(v, c.Server), Service: c.Point.String(), Connections: c.Connections, Bytes: c.Bytes,
		Carried: c.Carried, Dropped: c.Dropped,
		First: c.First.String(), Last: c.Last.String(), Observer: v.Observer(i), Draft: c.Verdict.String(),
		Release: r.Release,
		Verdict: decide.VerdictOf(r.Rule).String()}
	if r.Rule != nil {
		out.Rule = r.Rule.Sentence()
	}
	switch r.Fate {
	case reach.Leak:
		out.Fate = "leak"
	case reach.Choke:
		out.Fate = "choke"
	}
	return out
}

func tagsOf(v *reach.View, p decide.Placed) map[string]string {
	if p.Workload == estate.Outside {
		return nil
	}
	out := map[string]string{}
	for _, t := range v.Compiled.Estate.Workload(p.Workload).Tags {
		out[t.Key] = t.Value
	}
	return out
}
