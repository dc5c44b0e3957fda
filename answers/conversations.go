package answers

import (
	"context"
	"net/netip"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/flow"
	"lucidorchard/core/reach"
	"lucidorchard/core/service"
	"lucidorchard/ledger"
	"lucidorchard/model"
)

// ReadFlow reads two addresses and a spec that names one point.
func ReadFlow(client, server, spec string) (a, b netip.Addr, pt service.Point, err error) {
	a, err1 := netip.ParseAddr(client)
	b, err2 := netip.ParseAddr(server)
	if err1 != nil || err2 != nil {
		return a, b, 0, huma.Error422UnprocessableEntity("client and server: expected two IP addresses")
	}
	pt, err = ReadPoint(spec)
	return a, b, pt, err
}

// ReadPoint reads a spec that names one point.
func ReadPoint(spec string) (service.Point, error) {
	r, ok, err := service.ParseSpec(strings.ToLower(spec))
	switch {
	case !ok || err != nil:
		return 0, huma.Error422UnprocessableEntity("service: found " + spec +
			", expected a protocol with a port such as tcp/443, icmp/8.0 or proto/47")
	case r.Lo != r.Hi && service.IsICMP(r.Lo.Proto()) && r == service.Whole(r.Lo.Proto()):
		return r.Hi, nil // the message of unknown type
	}
	return r.Lo, nil
}

// ConversationOut is one conversation.
type ConversationOut struct {
	Client      EndpointOut `json:"client"`
	Server      EndpointOut `json:"server"`
	Service     string      `json:"service"`
	Verdict     string      `json:"verdict" enum:"permit,reject,uncovered"`
	Was         string      `json:"was,omitempty" enum:"permit,reject,uncovered" doc:"Its verdict in the revision that is compared with"`
	Rule        int         `json:"rule" doc:"Line of the deciding rule; 0 if there is none"`
	Connections int64       `json:"connections"`
	Bytes       int64       `json:"bytes"`
	Carried     int64       `json:"carried"`
	Dropped     int64       `json:"dropped"`
	Unsure      int64       `json:"unsure" doc:"Connections that may be the wrong way round"`
	First       string      `json:"first"`
	Last        string      `json:"last"`
	Spark       []int       `json:"spark"`

	Detail *ConversationDetail `json:"detail,omitempty" doc:"Only where it was asked for"`
}

// ConversationDetail is what a conversation has beside what every list shows.
type ConversationDetail struct {
	ClientGroups []string `json:"clientGroups"`
	ServerGroups []string `json:"serverGroups"`
	ClientTags   []string `json:"clientTags" doc:"As key=value"`
	ServerTags   []string `json:"serverTags"`
	Packets      int64    `json:"packets"`
	Exporters    []string `json:"exporters" doc:"Who reported it in the window"`
}

// NewConversationDetail returns the details of one conversation of a view. Groups are
// those of the policy of m, in its order.
func NewConversationDetail(v *reach.View, m *model.Model, i int) *ConversationDetail {
	c := v.At(i)
	out := &ConversationDetail{}
	out.ClientGroups, out.ClientTags = described(m, v.Compiled, c.Client)
	out.ServerGroups, out.ServerTags = described(m, v.Compiled, c.Server)
	for _, k := range v.RowsOf(i) {
		b := v.Table.Bucket(int(k))
		out.Packets = flow.Sum(out.Packets, b.Packets)
		if b.Observer != "" && !slices.Contains(out.Exporters, b.Observer) {
			out.Exporters = append(out.Exporters, b.Observer)
		}
	}
	slices.Sort(out.Exporters)
	out.Exporters = append([]string{}, out.Exporters...)
	return out
}

// described returns the groups and the tags of an end, both empty for none.
func described(m *model.Model, c *decide.Compiled, p decide.Placed) (groups, tags []string) {
	groups, tags = []string{}, []string{}
	truths := c.Truths(p)
	for i, g := range c.Policy.GroupOrder {
		if truths[i] == expr.Yes {
			groups = append(groups, g.Name)
		}
	}
	if p.Workload == estate.Outside {
		return groups, tags
	}
	for _, t := range m.Estate.Workload(p.Workload).Tags {
		if t.Value != "" {
			tags = append(tags, t.Key+"="+t.Value)
		}
	}
	return groups, tags
}

// ConversationPage is a page of conversations.
type ConversationPage struct {
	Total         int               `json:"total"`
	Conversations []ConversationOut `json:"conversations"`
}

// ConversationFilter selects conversations below a row of the ledger.
type ConversationFilter struct {
	Window
	ledger.Filter
	Near    string `query:"near" doc:"Key of the row"`
	Far     string `query:"far" doc:"Key of the other side"`
	Service string `query:"service"`
}

// SelectConversations returns the conversations below a row of the ledger, as indexes of the view, with the model.
func (s *Desk) SelectConversations(ctx context.Context, f ConversationFilter) (*reach.View, *model.Model, []int,
	error) {
	v, m, q, err := s.Asked(ctx, f.Window, f.Filter)
	if err != nil {
		return nil, nil, nil, err
	}
	if q, err = Below(q, f.Near, f.Far, f.Service); err != nil {
		return nil, nil, nil, err
	}
	return v, m, v.Select(q), nil
}

// Below narrows a query to what stands below a row of the ledger.
func Below(q reach.Query, near, far, service string) (reach.Query, error) {
	q.Near, q.Far = near, far
	if service == "" {
		return q, nil
	}
	pt, err := ReadPoint(service)
	q.Point = &pt
	return q, err
}

// NewConversationOut returns one conversation of a view.
func NewConversationOut(v *reach.View, i int) ConversationOut {
	c := v.At(i)
	client, server := v.Labels(i)
	out := ConversationOut{
		Client: NewEndpointOut(v, c.Client, client), Server: NewEndpointOut(v, c.Server, server),
		Service: c.Point.String(),
		Verdict: c.Verdict.String(), Connections: c.Connections, Bytes: c.Bytes, Carried: c.Carried,
		Dropped: c.Dropped, Unsure: c.Unsure,
		First: c.First.String(), Last: c.Last.String(), Spark: make([]int, 24),
	}
	if c.Rule != nil {
		out.Rule = c.Rule.Line
	}
	if v.Against != nil {
		out.Was = v.Against.Verdict(i).String()
	}
	v.Spread(i, out.Spark)
	return out
}
