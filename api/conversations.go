package api

import (
	"context"
	"fmt"
	"net/netip"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/reach"
	"lucidorchard/ledger"
	"lucidorchard/model"
)

// Single conversations, their hours and the flow records behind them.

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
}

// HourOut is what was stored of a conversation for one hour.
type HourOut struct {
	At          string `json:"at"`
	Outcome     string `json:"outcome"`
	Connections int64  `json:"connections"`
	Bytes       int64  `json:"bytes"`
	Packets     int64  `json:"packets"`
	First       string `json:"first"`
	Last        string `json:"last"`
	Observer    string `json:"observer"`
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

func (s *base) selectConversations(ctx context.Context, f ConversationFilter) (*reach.View, *model.Model, []int,
	error) {
	v, m, q, err := s.asked(ctx, f.Window, f.Filter)
	if err != nil {
		return nil, nil, nil, err
	}
	if q, err = below(q, f.Near, f.Far, f.Service); err != nil {
		return nil, nil, nil, err
	}
	return v, m, v.Select(q), nil
}

// below narrows a query to what stands below a row of the ledger.
func below(q reach.Query, near, far, service string) (reach.Query, error) {
	q.Near, q.Far = near, far
	if service == "" {
		return q, nil
	}
	pt, err := readPoint(service)
	q.Point = &pt
	return q, err
}

func (s *flowsAPI) conversations(ctx context.Context, in *struct {
	ConversationFilter
	Page
}) (*Body[ConversationPage], error) {
	v, _, found, err := s.selectConversations(ctx, in.ConversationFilter)
	if err != nil {
		return nil, err
	}
	out := ConversationPage{Total: len(found), Conversations: []ConversationOut{}}
	from, to := in.cut(len(found))
	for _, i := range found[from:to] {
		out.Conversations = append(out.Conversations, conversationOut(v, i))
	}
	return body(out), nil
}

func conversationOut(v *reach.View, i int) ConversationOut {
	c := v.At(i)
	client, server := v.Labels(i)
	out := ConversationOut{
		Client: endpointOut(v, c.Client, client), Server: endpointOut(v, c.Server, server), Service: c.Point.String(),
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

func (s *flowsAPI) hours(ctx context.Context, in *struct {
	Window
	Client  string `query:"client" required:"true" doc:"Address"`
	Server  string `query:"server" required:"true" doc:"Address"`
	Service string `query:"service" required:"true"`
	First   string `query:"first" required:"true" doc:"When the conversation was first seen: tells apart those of workloads that held one address in turn"`
}) (*Body[[]HourOut], error) {
	v, _, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	client, server, pt, err := readFlow(in.Client, in.Server, in.Service)
	if err != nil {
		return nil, err
	}
	for _, i := range v.Between(client, server, pt) {
		if v.At(i).First.String() != in.First {
			continue
		}
		out := []HourOut{}
		for _, k := range v.RowsOf(i) {
			b := v.Table.Bucket(int(k))
			out = append(out, HourOut{b.Hour.Start().String(), b.Outcome.String(), b.Connections, b.Bytes, b.Packets,
				b.First.String(), b.Last.String(), b.Observer})
		}
		return body(out), nil
	}
	return nil, huma.Error404NotFound("there is no such conversation in the window")
}

// RecordOut is a single record: a connection, or a part of one.
type RecordOut struct {
	Start        string   `json:"start"`
	End          string   `json:"end"`
	ClientPort   int      `json:"clientPort"`
	Outcome      string   `json:"outcome" enum:",carried,dropped"`
	Connections  int64    `json:"connections" doc:"0: a later part of one that goes on"`
	Packets      int64    `json:"packets" doc:"Both ways"`
	Bytes        int64    `json:"bytes"`
	ReplyPackets int64    `json:"replyPackets"`
	ReplyBytes   int64    `json:"replyBytes"`
	Flags        []string `json:"flags" doc:"TCP control bits that the client sent"`
	ReplyFlags   []string `json:"replyFlags"`
	Confidence   int      `json:"confidence" doc:"That client and server are the right way round, in percent"`
	Reason       string   `json:"reason" doc:"What decided that"`
	Exporter     string   `json:"exporter" doc:"Who saw it"`
}

// RecordPage is the newest records of a conversation.
type RecordPage struct {
	Total   int         `json:"total"`
	Records []RecordOut `json:"records"`
	Days    int         `json:"days" doc:"For how many days single records are kept; 0 is without bound"`
}

var flagNames = []string{"FIN", "SYN", "RST", "PSH", "ACK", "URG", "ECE", "CWR"}

func flagsOut(flags uint8) []string {
	out := []string{}
	for _, i := range []int{1, 4, 3, 0, 2, 5, 6, 7} { // in the order of a connection's life
		if flags>>i&1 == 1 {
			out = append(out, flagNames[i])
		}
	}
	return out
}

func (s *flowsAPI) records(ctx context.Context, in *struct {
	Client  string `query:"client" required:"true" doc:"Address"`
	Server  string `query:"server" required:"true" doc:"Address"`
	Service string `query:"service" required:"true"`
	From    string `query:"from" doc:"RFC 3339; without it, from the beginning"`
	To      string `query:"to" doc:"RFC 3339; records that start at it are in"`
	Offset  int    `query:"offset" minimum:"0" maximum:"100000000"`
	Limit   int    `query:"limit" minimum:"1" maximum:"5000" default:"100"`
}) (*Body[RecordPage], error) {
	var ends [2]netip.Addr
	for i, text := range []string{in.Client, in.Server} {
		a, err := netip.ParseAddr(text)
		if err != nil || a.Zone() != "" {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("%s: found %q, expected an IP address",
				[2]string{"client", "server"}[i], text))
		}
		ends[i] = a.Unmap()
	}
	pt, err := readPoint(in.Service)
	if err != nil {
		return nil, err
	}
	span := [2]estate.Instant{{}, {Sec: 1 << 33}}
	for i, text := range []string{in.From, in.To} {
		if text == "" {
			continue
		}
		t, err := estate.ParseInstant(text)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity([2]string{"from", "to"}[i] + ": " + err.Error())
		}
		if span[i] = t; i == 1 {
			span[i] = (flow.MicrosOfInstant(t) + 1).Instant()
		}
	}
	found, total, err := s.Store.Records(ctx, ends[0], ends[1], pt, span[0], span[1], in.Offset, in.Limit)
	if err != nil {
		return nil, err
	}
	kept, err := s.Retention(ctx)
	if err != nil {
		return nil, err
	}
	out := RecordPage{Total: total, Records: []RecordOut{}, Days: kept.RecordDays}
	for _, r := range found {
		out.Records = append(out.Records, RecordOut{
			Start: r.Start.String(), End: r.End.String(), ClientPort: int(r.SourcePort), Outcome: r.Outcome.String(),
			Connections: r.Connections, Packets: r.Packets, Bytes: r.Bytes,
			ReplyPackets: r.ReplyPackets, ReplyBytes: r.ReplyBytes, Flags: flagsOut(r.Flags),
			ReplyFlags: flagsOut(r.ReplyFlags), Confidence: int(r.Confidence), Reason: r.Reason.String(),
			Exporter: r.Observer,
		})
	}
	return body(out), nil
}
