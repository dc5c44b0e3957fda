package rest

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/collect"
	"lucidorchard/core/estate"
	"lucidorchard/core/service"
	"lucidorchard/model"
	"lucidorchard/server"
	"lucidorchard/traffic"
)

// exporterOut is one that sends, as a collector knows it.
type exporterOut struct {
	traffic.ExporterStatus
	Collector string `json:"collector"`
	Workload  string `json:"workload,omitempty" doc:"Id of the workload that has its address now"`
	Name      string `json:"name" doc:"Of the workload, or the address"`
	Told      string `json:"told" doc:"Last report of the collector"`
	ICMP      string `json:"icmp,omitempty" enum:"destination,source,nowhere" doc:"Where it writes the types of ICMP messages for which its records have no field, as chosen by a person"`
	ICMPBy    string `json:"icmpBy,omitempty" doc:"Who said so"`
}

// collectorOut is a collector.
type collectorOut struct {
	collect.Status
	Name  string `json:"name"`
	Told  string `json:"told"`
	Quiet bool   `json:"quiet" doc:"It has not reported for half a minute: it does not run"`
}

// exportersOut is who sends, and to whom.
type exportersOut struct {
	Collectors []collectorOut `json:"collectors"`
	Total      int            `json:"total" doc:"Exporters in all"`
	Exporters  []exporterOut  `json:"exporters"`
}

// ServicePortOut is what somebody said of a port.
type ServicePortOut struct {
	Service string `json:"service" doc:"Such as tcp/7411"`
	Kind    string `json:"kind" enum:"everywhere,group,workload,address"`
	Place   string `json:"place" doc:"Name of the group, id of the workload, or address or CIDR; blank: everywhere"`
	Author  string `json:"author,omitempty"`
	At      string `json:"at,omitempty"`
	Applied bool   `json:"applied,omitempty" doc:"What was stored before agrees with it"`
}

// RetentionOut says for how long traffic is kept, and what that deletes.
type RetentionOut struct {
	traffic.Retention
	Bytes        int64    `json:"bytes" doc:"On disk now"`
	Days         []dayOut `json:"days" doc:"What is kept, oldest first"`
	Deletes      []dayOut `json:"deletes" doc:"What these bounds delete"`
	DeletedBytes int64    `json:"deletedBytes"`
}

// dayOut is what is kept of a day.
type dayOut struct {
	Day   string `json:"day"`
	What  string `json:"what" enum:"conversations,records"`
	Bytes int64  `json:"bytes"`
	Rows  int64  `json:"rows" doc:"As the database estimates"`
}

// Exporters answers about exporters, what is said of ports, and for how long traffic is kept.
type Exporters struct {
	*answers.Desk
	*traffic.Service
}

func (s *Exporters) Routes(r server.Routes) {
	server.Get(r, "list-exporters", "/exporters", "The exporters and collectors with what they send", s.exporters)
	server.Put(r, "say-exporter-habit", "/exporters/{addr}/icmp",
		"Say where an exporter writes the types of ICMP messages",
		s.sayHabit)
	server.Remove(r, "forget-exporter", "/exporters/{addr}", "Delete an exporter that no longer "+
		"sends", s.forgetExporter)
	server.Get(r, "list-service-ports", "/service-ports", "Corrections of which port is a service", s.servicePorts)
	server.Post(r, "add-service-port", "/service-ports",
		"Declare a port a service, and swap stored conversations accordingly", s.addServicePort, server.Starts,
		server.CanBeMissing)
	server.Remove(r, "remove-service-port", "/service-ports",
		"Withdraw a correction of a port, and swap conversations back", s.removeServicePort, server.Starts,
		server.CanBeMissing)
	server.Get(r, "read-retention", "/retention", "The retention of traffic, or what other bounds would delete",
		s.retention)
	server.Put(r, "set-retention", "/retention", "Set the retention of traffic", s.setRetention)
	server.Get(r, "list-refused-batches", "/refused-batches",
		"Batches of traffic whose contents the database rejects", s.refusedBatches)
	server.Remove(r, "drop-refused-batch", "/refused-batches/{id}", "Delete a rejected batch", s.dropRefused,
		server.CanBeMissing)
	server.Get(r, "export-refused-batch", "/refused-batches/{id}/records.csv",
		"The records of a rejected batch as a file of flows", s.exportRefused, server.CanBeMissing)
}

// refusedBatches lists what collectors had to set aside.
func (s *Exporters) refusedBatches(ctx context.Context, in *struct{ server.All }) (*server.List[RefusedBatch],
	error) {
	all, err := s.RefusedBatches(ctx)
	if err != nil {
		return nil, err
	}
	return server.Cut(ctx, server.Each(all, func(b traffic.RefusedBatch) RefusedBatch { return RefusedBatch(b) }),
		in.All), nil
}

type batchID struct {
	ID string `path:"id"`
}

func (s *Exporters) dropRefused(ctx context.Context, in *batchID) (*struct{}, error) {
	found, err := s.DropRefused(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if !found {
		return nil, huma.Error404NotFound("there is no rejected batch with this id")
	}
	s.Events.Changed()
	return nil, nil
}

func (s *Exporters) exportRefused(ctx context.Context, in *batchID) (*huma.StreamResponse, error) {
	text, err := s.RefusedRecords(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if text == nil {
		return nil, huma.Error404NotFound("there is no rejected batch with this id")
	}
	return &huma.StreamResponse{Body: func(hc huma.Context) {
		hc.SetHeader("Content-Type", "text/csv; charset=utf-8")
		hc.SetHeader("Content-Disposition", `attachment; filename="records.csv"`)
		_, _ = hc.BodyWriter().Write(text)
	}}, nil
}

func (s *Exporters) exporters(ctx context.Context, in *struct{ server.All }) (*server.Body[exportersOut], error) {
	out := exportersOut{Collectors: []collectorOut{}, Exporters: []exporterOut{}}
	collectors, err := s.Collectors(ctx)
	if err != nil {
		return nil, err
	}
	for _, c := range collectors {
		o := collectorOut{Name: c.Name, Told: c.At.UTC().Format(time.RFC3339),
			Quiet: time.Since(c.At) > 30*time.Second}
		if err := json.Unmarshal(c.State, &o.Status); err != nil {
			return nil, err
		}
		out.Collectors = append(out.Collectors, o)
	}
	exporters, err := s.Exporters(ctx)
	if err != nil {
		return nil, err
	}
	snap, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	habits, err := s.ExporterHabits(ctx)
	if err != nil {
		return nil, err
	}
	for _, e := range exporters {
		o := exporterOut{Collector: e.Collector, Told: e.At.UTC().Format(time.RFC3339), Name: e.Addr.String()}
		if err := json.Unmarshal(e.State, &o.ExporterStatus); err != nil {
			return nil, err
		}
		if time.Since(e.At) > 30*time.Second {
			o.Rate = 0
		}
		if at := snap.Estate.At(e.Addr, estate.InstantOf(time.Now())); at.Workload != estate.Outside {
			w := snap.Estate.Workload(at.Workload)
			o.Workload, o.Name = w.ID, w.Label()
		}
		if i := slices.IndexFunc(habits, func(h traffic.ExporterHabit) bool { return h.Addr == e.Addr }); i >= 0 {
			o.ICMP, o.ICMPBy = habits[i].ICMP, habits[i].Author
		}
		out.Exporters = append(out.Exporters, o)
	}
	out.Total = len(out.Exporters)
	out.Exporters = server.Cut(ctx, out.Exporters, in.All).Body
	return server.OK(out), nil
}

// sayHabit notes where an exporter writes the types of ICMP messages: of what comes from then on.
func (s *Exporters) sayHabit(ctx context.Context, in *struct {
	Addr string `path:"addr"`
	Body struct {
		ICMP string `json:"icmp" enum:"destination,source,nowhere," doc:"destination: type × 256 + code as the destination port; source: the type as the source port, the code as the destination port; nowhere: its ports say nothing; blank: as it shows itself"`
	}
}) (*struct{}, error) {
	addr, err := netip.ParseAddr(in.Addr)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("addr: found %q, expected an IP address", in.Addr))
	}
	if err := s.SetExporterHabit(ctx, traffic.ExporterHabit{Addr: addr.Unmap(), ICMP: in.Body.ICMP,
		Author: s.Author}); err != nil {
		return nil, err
	}
	if err := s.RefreshHooks(ctx); err != nil {
		return nil, err
	}
	s.Events.Changed()
	return nil, nil
}

func (s *Exporters) forgetExporter(ctx context.Context, in *struct {
	Addr string `path:"addr"`
}) (*struct{}, error) {
	addr, err := netip.ParseAddr(in.Addr)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("addr: found %q, expected an IP address", in.Addr))
	}
	if err := s.ForgetExporter(ctx, addr); err != nil {
		return nil, err
	}
	s.Events.Changed()
	return nil, nil
}

// readServicePort checks what somebody says of a port.
func readServicePort(snap *model.Model, in ServicePortOut) (traffic.ServicePort, error) {
	p := traffic.ServicePort{Kind: in.Kind, Place: in.Place}
	pt, err := answers.ReadPoint(in.Service)
	if err != nil {
		return p, err
	}
	if !service.HasPorts(pt.Proto()) || service.IsICMP(pt.Proto()) {
		return p, huma.Error422UnprocessableEntity("service: found " + in.Service +
			", expected a protocol with ports such as tcp/7411")
	}
	p.Protocol, p.Port = pt.Proto(), uint16(pt.Port())
	switch in.Kind {
	case "everywhere":
		p.Place = ""
	case "group":
		if snap.Policy.Groups[in.Place] == nil {
			return p, huma.Error404NotFound("there is no group " + in.Place)
		}
	case "workload":
		if _, ok := snap.Estate.ByID(in.Place); !ok {
			return p, huma.Error404NotFound("there is no workload with the id " + in.Place)
		}
	case "address":
		if _, err := netip.ParsePrefix(in.Place); err != nil {
			if _, err := netip.ParseAddr(in.Place); err != nil {
				return p, huma.Error422UnprocessableEntity(fmt.Sprintf("place: found %q, expected an IP address or "+
					"a CIDR", in.Place))
			}
		}
	default:
		return p, huma.Error422UnprocessableEntity(fmt.Sprintf("kind: found %q, expected everywhere, group, "+
			"workload or address", in.Kind))
	}
	return p, nil
}

func servicePortOut(p traffic.ServicePort) ServicePortOut {
	return ServicePortOut{service.PointOf(p.Protocol, uint32(p.Port)).String(), p.Kind, p.Place, p.Author,
		p.At.UTC().Format(time.RFC3339), p.Applied}
}

func (s *Exporters) servicePorts(ctx context.Context, in *struct{ server.All }) (*server.List[ServicePortOut], error) {
	all, err := s.ServicePorts(ctx)
	if err != nil {
		return nil, err
	}
	out := []ServicePortOut{}
	for _, p := range all {
		out = append(out, servicePortOut(p))
	}
	return server.Cut(ctx, out, in.All), nil
}

// addServicePort remembers that a port is a service at a place, and turns what
// was stored the wrong way round.
func (s *Exporters) addServicePort(ctx context.Context, in *struct{ Body ServicePortOut }) (*server.Begun, error) {
	snap, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	p, err := readServicePort(snap, in.Body)
	if err != nil {
		return nil, err
	}
	p.Author = s.Author
	if err := s.AddServicePort(ctx, p); err != nil {
		return nil, err
	}
	if err := s.RefreshHooks(ctx); err != nil {
		return nil, err
	}
	job, err := s.Start(ctx, "turn", "Swap conversations on "+in.Body.Service,
		func(ctx context.Context, progress func(float64, string)) (any, error) {
			return s.TurnRound(ctx, p, false, progress)
		})
	return server.Begin(job, err)
}

func (s *Exporters) removeServicePort(ctx context.Context, in *struct {
	Service string `query:"service" required:"true" doc:"Such as tcp/7411"`
	Kind    string `query:"kind" required:"true" enum:"everywhere,group,workload,address"`
	Place   string `query:"place" doc:"As it was entered; blank: everywhere"`
}) (*server.Begun, error) {
	pt, err := answers.ReadPoint(in.Service)
	if err != nil {
		return nil, err
	}
	p := traffic.ServicePort{Protocol: pt.Proto(), Port: uint16(pt.Port()), Kind: in.Kind, Place: in.Place}
	found, err := s.RemoveServicePort(ctx, p)
	if err != nil {
		return nil, err
	}
	if !found {
		return nil, huma.Error404NotFound("there is no such correction of " + in.Service)
	}
	if err := s.RefreshHooks(ctx); err != nil {
		return nil, err
	}
	job, err := s.Start(ctx, "turn", "Swap conversations on "+in.Service+" back",
		func(ctx context.Context, progress func(float64, string)) (any, error) {
			return s.TurnRound(ctx, p, true, progress)
		})
	return server.Begin(job, err)
}

// retention returns the bounds, or those that are tried, with what they delete.
func (s *Exporters) retention(ctx context.Context, in *struct {
	ConversationDays int   `query:"conversationDays" default:"-1"`
	RecordDays       int   `query:"recordDays" default:"-1"`
	MostBytes        int64 `query:"mostBytes" default:"-1"`
}) (*server.Body[RetentionOut], error) {
	r, err := s.Retention(ctx)
	if err != nil {
		return nil, err
	}
	if in.ConversationDays >= 0 {
		r.ConversationDays = in.ConversationDays
	}
	if in.RecordDays >= 0 {
		r.RecordDays = in.RecordDays
	}
	if in.MostBytes >= 0 {
		r.MostBytes = in.MostBytes
	}
	return s.retentionOut(ctx, r)
}

func (s *Exporters) retentionOut(ctx context.Context, r traffic.Retention) (*server.Body[RetentionOut], error) {
	days, err := s.Days(ctx)
	if err != nil {
		return nil, err
	}
	out := RetentionOut{Retention: r, Days: []dayOut{}, Deletes: []dayOut{}}
	day := func(d traffic.Day) dayOut { return dayOut{d.Day.Format(time.DateOnly), d.Table, d.Bytes, d.Rows} }
	for _, d := range days {
		out.Bytes += d.Bytes
		out.Days = append(out.Days, day(d))
	}
	for _, d := range r.Over(days, time.Now()) {
		out.DeletedBytes += d.Bytes
		out.Deletes = append(out.Deletes, day(d))
	}
	return server.OK(out), nil
}

// setRetention keeps the bounds, and deletes what is over them before it answers.
func (s *Exporters) setRetention(ctx context.Context, in *struct{ Body traffic.Retention }) (*server.Body[RetentionOut],
	error) {
	if in.Body.ConversationDays < 0 || in.Body.RecordDays < 0 || in.Body.MostBytes < 0 {
		return nil, huma.Error422UnprocessableEntity("found a number below 0, expected days or bytes; 0 means no bound")
	}
	if err := s.Set(ctx, "retention", in.Body); err != nil {
		return nil, err
	}
	if err := s.Retain(ctx); err != nil {
		return nil, err
	}
	s.Events.Changed()
	return s.retentionOut(ctx, in.Body)
}
