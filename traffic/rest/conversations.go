package rest

import (
	"context"

	// Single conversations, their hours and the flow records behind them.
	"fmt"
	"net/netip"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/server"
)

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

func (s *Flows) conversations(ctx context.Context, in *struct {
	answers.ConversationFilter
	server.Page
	Detail bool `query:"detail" doc:"With groups, tags, packets and exporters of each"`
}) (*server.Body[answers.ConversationPage], error) {
	v, m, found, err := s.SelectConversations(ctx, in.ConversationFilter)
	if err != nil {
		return nil, err
	}
	out := answers.ConversationPage{Total: len(found), Conversations: []answers.ConversationOut{}}
	from, to := in.Cut(len(found))
	for _, i := range found[from:to] {
		c := answers.NewConversationOut(v, i)
		if in.Detail {
			c.Detail = answers.NewConversationDetail(v, m, i)
		}
		out.Conversations = append(out.Conversations, c)
	}
	return server.OK(out), nil
}

func (s *Flows) hours(ctx context.Context, in *struct {
	answers.Window
	Client  string `query:"client" required:"true" doc:"Address"`
	Server  string `query:"server" required:"true" doc:"Address"`
	Service string `query:"service" required:"true"`
	First   string `query:"first" required:"true" doc:"When the conversation was first seen: distinguishes workloads that had the same address in turn"`
}) (*server.Body[[]HourOut], error) {
	v, _, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	client, srv, pt, err := answers.ReadFlow(in.Client, in.Server, in.Service)
	if err != nil {
		return nil, err
	}
	for _, i := range v.Between(client, srv, pt) {
		if v.At(i).First.String() != in.First {
			continue
		}
		out := []HourOut{}
		for _, k := range v.RowsOf(i) {
			b := v.Table.Bucket(int(k))
			out = append(out, HourOut{b.Hour.Start().String(), b.Outcome.String(), b.Connections, b.Bytes, b.Packets,
				b.First.String(), b.Last.String(), b.Observer})
		}
		return server.OK(out), nil
	}
	return nil, huma.Error404NotFound("there is no such conversation in the window")
}

// recordOut is a single record: a connection, or a part of one.
type recordOut struct {
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
	Records []recordOut `json:"records"`
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

func (s *Flows) records(ctx context.Context, in *struct {
	Client  string `query:"client" required:"true" doc:"Address"`
	Server  string `query:"server" required:"true" doc:"Address"`
	Service string `query:"service" required:"true"`
	From    string `query:"from" doc:"RFC 3339; without it, from the beginning"`
	To      string `query:"to" doc:"RFC 3339; records that start at it are in"`
	Offset  int    `query:"offset" minimum:"0" maximum:"100000000"`
	Limit   int    `query:"limit" minimum:"1" maximum:"5000" default:"100"`
}) (*server.Body[RecordPage], error) {
	var ends [2]netip.Addr
	for i, text := range []string{in.Client, in.Server} {
		a, err := netip.ParseAddr(text)
		if err != nil || a.Zone() != "" {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("%s: found %q, expected an IP address",
				[2]string{"client", "server"}[i], text))
		}
		ends[i] = a.Unmap()
	}
	pt, err := answers.ReadPoint(in.Service)
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
	found, total, err := s.Records(ctx, ends[0], ends[1], pt, span[0], span[1], in.Offset, in.Limit)
	if err != nil {
		return nil, err
	}
	kept, err := s.Retention(ctx)
	if err != nil {
		return nil, err
	}
	out := RecordPage{Total: total, Records: []recordOut{}, Days: kept.RecordDays}
	for _, r := range found {
		out.Records = append(out.Records, recordOut{
			Start: r.Start.String(), End: r.End.String(), ClientPort: int(r.SourcePort), Outcome: r.Outcome.String(),
			Connections: r.Connections, Packets: r.Packets, Bytes: r.Bytes,
			ReplyPackets: r.ReplyPackets, ReplyBytes: r.ReplyBytes, Flags: flagsOut(r.Flags),
			ReplyFlags: flagsOut(r.ReplyFlags), Confidence: int(r.Confidence), Reason: r.Reason.String(),
			Exporter: r.Observer,
		})
	}
	return server.OK(out), nil
}
