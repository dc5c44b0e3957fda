package server

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/collect"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/model"
	"lucidorchard/store"
)

// ExporterOut is one that sends, as a collector knows it.
type ExporterOut struct {
	collect.ExporterStatus
	Collector string `json:"collector"`
	Workload  string `json:"workload,omitempty" doc:"Id of the workload that holds its address now"`
	Name      string `json:"name" doc:"Of the workload, or the address"`
	Told      string `json:"told" doc:"When the collector last told"`
}

// CollectorOut is a collector.
type CollectorOut struct {
	collect.Status
	Name  string `json:"name"`
	Told  string `json:"told"`
	Quiet bool   `json:"quiet" doc:"It has told nothing for half a minute: it does not run"`
}

// ExportersOut is who sends, and to whom.
type ExportersOut struct {
	Collectors []CollectorOut `json:"collectors"`
	Exporters  []ExporterOut  `json:"exporters"`
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
	store.Retention
	Bytes        int64    `json:"bytes" doc:"On disk now"`
	Days         []DayOut `json:"days" doc:"What is kept, oldest first"`
	Deletes      []DayOut `json:"deletes" doc:"What these bounds delete"`
	DeletedBytes int64    `json:"deletedBytes"`
}

// DayOut is what is kept of a day.
type DayOut struct {
	Day   string `json:"day"`
	What  string `json:"what" enum:"conversations,records"`
	Bytes int64  `json:"bytes"`
	Rows  int64  `json:"rows" doc:"As the database estimates"`
}

func (s *Server) exporterRoutes() {
	huma.Get(s.api, "/api/exporters", s.exporters)
	huma.Delete(s.api, "/api/exporters/{addr}", s.forgetExporter)
	huma.Get(s.api, "/api/service-ports", s.servicePorts)
	huma.Post(s.api, "/api/service-ports", s.addServicePort)
	huma.Delete(s.api, "/api/service-ports", s.removeServicePort)
	huma.Get(s.api, "/api/retention", s.retention)
	huma.Put(s.api, "/api/retention", s.setRetention)
	huma.Get(s.api, "/api/refused-batches", s.refusedBatches)
	huma.Delete(s.api, "/api/refused-batches/{id}", s.dropRefused)
	huma.Register(s.api, huma.Operation{OperationID: "export-refused-batch", Method: http.MethodGet, Path: "/api/refused-batches/{id}/records.csv", Summary: "The records of a batch that was set aside, as a file of flows"}, s.exportRefused)
}

// refusedBatches lists what collectors had to set aside.
func (s *Server) refusedBatches(ctx context.Context, _ *struct{}) (*Body[[]store.RefusedBatch], error) {
	all, err := s.Store.RefusedBatches(ctx)
	if err != nil {
		return nil, s.failed(ctx, err)
	}
	return body(all), nil
}

type batchID struct {
	ID string `path:"id"`
}

func (s *Server) dropRefused(ctx context.Context, in *batchID) (*struct{}, error) {
	found, err := s.Store.DropRefused(ctx, in.ID)
	if err != nil {
		return nil, s.failed(ctx, err)
	}
	if !found {
		return nil, huma.Error404NotFound("no batch with this id is set aside")
	}
	s.events.changed()
	return nil, nil
}

func (s *Server) exportRefused(ctx context.Context, in *batchID) (*huma.StreamResponse, error) {
	text, err := s.Store.RefusedRecords(ctx, in.ID)
	if err != nil {
		return nil, s.failed(ctx, err)
	}
	if text == nil {
		return nil, huma.Error404NotFound("no batch with this id is set aside")
	}
	return &huma.StreamResponse{Body: func(hc huma.Context) {
		hc.SetHeader("Content-Type", "text/csv; charset=utf-8")
		hc.SetHeader("Content-Disposition", `attachment; filename="records.csv"`)
		_, _ = hc.BodyWriter().Write(text)
	}}, nil
}

func (s *Server) exporters(ctx context.Context, _ *struct{}) (*Body[ExportersOut], error) {
	out := ExportersOut{Collectors: []CollectorOut{}, Exporters: []ExporterOut{}}
	collectors, err := s.Store.Collectors(ctx)
	if err != nil {
		return nil, s.failed(ctx, err)
	}
	for _, c := range collectors {
		o := CollectorOut{Name: c.Name, Told: c.At.UTC().Format(time.RFC3339), Quiet: time.Since(c.At) > 30*time.Second}
		if err := json.Unmarshal(c.State, &o.Status); err != nil {
			return nil, err
		}
		out.Collectors = append(out.Collectors, o)
	}
	exporters, err := s.Store.Exporters(ctx)
	if err != nil {
		return nil, s.failed(ctx, err)
	}
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	for _, e := range exporters {
		o := ExporterOut{Collector: e.Collector, Told: e.At.UTC().Format(time.RFC3339), Name: e.Addr.String()}
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
		out.Exporters = append(out.Exporters, o)
	}
	return body(out), nil
}

func (s *Server) forgetExporter(ctx context.Context, in *struct {
	Addr string `path:"addr"`
}) (*struct{}, error) {
	addr, err := netip.ParseAddr(in.Addr)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("addr: found %q, expected an IP address", in.Addr))
	}
	if err := s.Store.ForgetExporter(ctx, addr); err != nil {
		return nil, s.failed(ctx, err)
	}
	return nil, nil
}

// readServicePort checks what somebody says of a port.
func readServicePort(snap *model.Model, in ServicePortOut) (store.ServicePort, error) {
	p := store.ServicePort{Kind: in.Kind, Place: in.Place}
	pt, err := readPoint(in.Service)
	if err != nil {
		return p, err
	}
	if !service.HasPorts(pt.Proto()) || service.IsICMP(pt.Proto()) {
		return p, huma.Error422UnprocessableEntity("service: found " + in.Service + ", expected a protocol with ports such as tcp/7411")
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
				return p, huma.Error422UnprocessableEntity(fmt.Sprintf("place: found %q, expected an IP address or a CIDR", in.Place))
			}
		}
	default:
		return p, huma.Error422UnprocessableEntity(fmt.Sprintf("kind: found %q, expected everywhere, group, workload or address", in.Kind))
	}
	return p, nil
}

// at reports whether an address is where what was said of a port holds.
func portAt(snap *model.Model, p *store.ServicePort, addr netip.Addr, t estate.Instant) bool {
	switch p.Kind {
	case "everywhere":
		return true
	case "group":
		return snap.Policy.Groups[p.Place] != nil && snap.Compiled.Group(p.Place, snap.Compiled.At(addr, t)) == expr.Yes
	case "workload":
		i, ok := snap.Estate.ByID(p.Place)
		return ok && snap.Estate.At(addr, t).Workload == i
	}
	if prefix, err := netip.ParsePrefix(p.Place); err == nil {
		return prefix.Contains(addr)
	}
	one, err := netip.ParseAddr(p.Place)
	return err == nil && one.Unmap() == addr
}

// serves says whether one of what was said of ports holds at an address.
func servesAt(snap *model.Model, said []store.ServicePort) func(netip.Addr, uint8, uint16, flow.Micros) bool {
	type key struct {
		proto uint8
		port  uint16
	}
	byPort := map[key][]*store.ServicePort{}
	for i := range said {
		p := &said[i]
		byPort[key{p.Protocol, p.Port}] = append(byPort[key{p.Protocol, p.Port}], p)
	}
	return func(addr netip.Addr, proto uint8, port uint16, at flow.Micros) bool {
		return slices.ContainsFunc(byPort[key{proto, port}], func(p *store.ServicePort) bool { return portAt(snap, p, addr, at.Instant()) })
	}
}

func servicePortOut(p store.ServicePort) ServicePortOut {
	return ServicePortOut{service.PointOf(p.Protocol, uint32(p.Port)).String(), p.Kind, p.Place, p.Author, p.At.UTC().Format(time.RFC3339), p.Applied}
}

func (s *Server) servicePorts(ctx context.Context, _ *struct{}) (*Body[[]ServicePortOut], error) {
	all, err := s.Store.ServicePorts(ctx)
	if err != nil {
		return nil, s.failed(ctx, err)
	}
	out := []ServicePortOut{}
	for _, p := range all {
		out = append(out, servicePortOut(p))
	}
	return body(out), nil
}

// addServicePort remembers that a port is a service at a place, and turns what
// was stored the wrong way round.
func (s *Server) addServicePort(ctx context.Context, in *struct{ Body ServicePortOut }) (*Body[store.Job], error) {
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	p, err := readServicePort(snap, in.Body)
	if err != nil {
		return nil, err
	}
	p.Author = s.Author
	if err := s.Store.AddServicePort(ctx, p); err != nil {
		return nil, s.failed(ctx, err)
	}
	if err := s.refreshHooks(ctx); err != nil {
		return nil, s.failed(ctx, err)
	}
	job, err := s.start(ctx, "turn", "Turn conversations on "+in.Body.Service, func(ctx context.Context, progress func(float64, string)) (any, error) {
		return s.turnRound(ctx, p, false, progress)
	})
	return body(job), err
}

func (s *Server) removeServicePort(ctx context.Context, in *struct{ Body ServicePortOut }) (*Body[store.Job], error) {
	pt, err := readPoint(in.Body.Service)
	if err != nil {
		return nil, err
	}
	p := store.ServicePort{Protocol: pt.Proto(), Port: uint16(pt.Port()), Kind: in.Body.Kind, Place: in.Body.Place}
	found, err := s.Store.RemoveServicePort(ctx, p)
	if err != nil {
		return nil, s.failed(ctx, err)
	}
	if !found {
		return nil, huma.Error404NotFound("nothing like that was said of " + in.Body.Service)
	}
	if err := s.refreshHooks(ctx); err != nil {
		return nil, s.failed(ctx, err)
	}
	job, err := s.start(ctx, "turn", "Turn conversations on "+in.Body.Service+" back", func(ctx context.Context, progress func(float64, string)) (any, error) {
		return s.turnRound(ctx, p, true, progress)
	})
	return body(job), err
}

// Turned is what became of a correction.
type Turned struct {
	Records int `json:"records" doc:"That were turned"`
	Hours   int `json:"hours" doc:"That were gathered anew"`
	Partial int `json:"partial" doc:"Hours of which the single records are no longer kept: they stay as they are"`
}

// turnRound applies what was said of a port to what is stored; or, if it is no
// longer said, takes back what it turned.
func (s *Server) turnRound(ctx context.Context, p store.ServicePort, back bool, progress func(float64, string)) (*Turned, error) {
	snap, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	byHour, err := s.Store.EndsOn(ctx, p.Protocol, p.Port, back)
	if err != nil {
		return nil, err
	}
	said, err := s.Store.ServicePorts(ctx)
	if err != nil {
		return nil, err
	}
	serves := servesAt(snap, said)
	out := &Turned{}
	done := 0
	for hour, addrs := range byHour {
		progress(float64(done)/float64(len(byHour)), fmt.Sprintf("%d of %d hours", done, len(byHour)))
		done++
		addrs = slices.DeleteFunc(addrs, func(a netip.Addr) bool {
			return !portAt(snap, &p, a, hour.Start()) && !portAt(snap, &p, a, (hour+1).Start())
		})
		if len(addrs) == 0 {
			continue
		}
		r, err := s.Store.Rebuild(ctx, hour, addrs, func(j *flow.Joined) bool {
			at := flow.MicrosOfInstant(j.Start)
			if back {
				if j.Reason != flow.ByHand || j.Point != service.PointOf(p.Protocol, uint32(p.Port)) || serves(j.Server, p.Protocol, p.Port, at) {
					return false
				}
				j.Turn()
				j.Confidence, j.Reason = 50, flow.ByGuess
				return true
			}
			if j.Point.Proto() != p.Protocol || j.SourcePort != p.Port || !serves(j.Client, p.Protocol, j.SourcePort, at) || serves(j.Server, p.Protocol, uint16(j.Point.Port()), at) {
				return false
			}
			j.Turn()
			return true
		}, snap.Estate.ChangedHands, nil)
		if err != nil {
			return nil, err
		}
		out.Records += r.Turned
		out.Hours++
		if r.Partial {
			out.Partial++
		}
	}
	s.models.Hurry()
	if back {
		return out, nil
	}
	return out, s.Store.ServicePortApplied(ctx, p)
}

// refreshHooks tells the collector what it may ask of the estate as it is now.
func (s *Server) refreshHooks(ctx context.Context) error {
	if s.Collector == nil {
		return nil
	}
	snap, err := s.snapshot(ctx)
	if err != nil {
		return err
	}
	said, err := s.Store.ServicePorts(ctx)
	if err != nil {
		return err
	}
	s.Collector.SetHooks(collect.Hooks{Serves: servesAt(snap, said), Changes: snap.Estate.ChangedHands})
	return nil
}

// finishTurns applies what was said of ports when the program ended in the middle
// of it.
func (s *Server) finishTurns(ctx context.Context) error {
	said, err := s.Store.ServicePorts(ctx)
	if err != nil {
		return err
	}
	for _, p := range said {
		if p.Applied {
			continue
		}
		if _, err := s.turnRound(ctx, p, false, func(float64, string) {}); err != nil {
			return err
		}
	}
	return nil
}

func (s *Server) currentRetention(ctx context.Context) (store.Retention, error) {
	r := store.DefaultRetention
	err := s.Store.Setting(ctx, "retention", &r)
	return r, err
}

// retention gives the bounds, or those that are tried, with what they delete.
func (s *Server) retention(ctx context.Context, in *struct {
	ConversationDays int   `query:"conversationDays" default:"-1"`
	RecordDays       int   `query:"recordDays" default:"-1"`
	MostBytes        int64 `query:"mostBytes" default:"-1"`
}) (*Body[RetentionOut], error) {
	r, err := s.currentRetention(ctx)
	if err != nil {
		return nil, s.failed(ctx, err)
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

func (s *Server) retentionOut(ctx context.Context, r store.Retention) (*Body[RetentionOut], error) {
	days, err := s.Store.Days(ctx)
	if err != nil {
		return nil, s.failed(ctx, err)
	}
	out := RetentionOut{Retention: r, Days: []DayOut{}, Deletes: []DayOut{}}
	day := func(d store.Day) DayOut { return DayOut{d.Day.Format(time.DateOnly), d.Table, d.Bytes, d.Rows} }
	for _, d := range days {
		out.Bytes += d.Bytes
		out.Days = append(out.Days, day(d))
	}
	for _, d := range r.Over(days, time.Now()) {
		out.DeletedBytes += d.Bytes
		out.Deletes = append(out.Deletes, day(d))
	}
	return body(out), nil
}

// setRetention keeps the bounds; what is over them is deleted in the background.
func (s *Server) setRetention(ctx context.Context, in *struct{ Body store.Retention }) (*Body[RetentionOut], error) {
	if in.Body.ConversationDays < 0 || in.Body.RecordDays < 0 || in.Body.MostBytes < 0 {
		return nil, huma.Error422UnprocessableEntity("found a number below 0, expected days or octets; 0 is without bound")
	}
	if err := s.Store.Set(ctx, "retention", in.Body); err != nil {
		return nil, s.failed(ctx, err)
	}
	if err := s.retain(ctx); err != nil {
		return nil, s.failed(ctx, err)
	}
	return s.retentionOut(ctx, in.Body)
}

// retain deletes what is over the bounds.
func (s *Server) retain(ctx context.Context) error {
	r, err := s.currentRetention(ctx)
	if err != nil {
		return err
	}
	days, err := s.Store.Days(ctx)
	if err != nil {
		return err
	}
	over := r.Over(days, time.Now())
	if len(over) > 0 {
		s.Log.Info("deleting days that are over the bounds of what is kept", "days", len(over))
	}
	return s.Store.Drop(ctx, over)
}

// repair cuts stored conversations where an address changed hands within the
// hour, once the leases that say so are known.
func (s *Server) repair(ctx context.Context) error {
	snap, err := s.snapshot(ctx)
	if err != nil {
		return err
	}
	hours, err := s.Store.Hours(ctx)
	if err != nil {
		return err
	}
	made, err := s.Store.Cuts(ctx)
	if err != nil {
		return err
	}
	todo := map[flow.Hour][]store.Cut{}
	var nothing []store.Cut
	for _, w := range snap.Estate.All() {
		for _, l := range w.Leases {
			for _, t := range [2]estate.Instant{l.From, l.Until} {
				if !t.IsBound() {
					continue
				}
				cut := store.Cut{Addr: l.Addr.Unmap(), At: flow.MicrosOfInstant(t).Instant()}
				if made[cut] {
					continue
				}
				made[cut] = true
				h := flow.HourOf(t)
				if _, there := hours[h]; there {
					todo[h] = append(todo[h], cut)
				} else {
					nothing = append(nothing, cut) // what comes later is cut as it comes
				}
			}
		}
	}
	if err := s.Store.MarkCuts(ctx, nothing); err != nil {
		return err
	}
	for hour, cuts := range todo {
		var addrs []netip.Addr
		for _, c := range cuts {
			addrs = append(addrs, c.Addr)
		}
		r, err := s.Store.Rebuild(ctx, hour, addrs, nil, snap.Estate.ChangedHands, cuts)
		if err != nil {
			return err
		}
		if r.Partial {
			s.Log.Warn("an address changed hands in an hour whose single records are no longer kept: its conversations stay with who held it first", "hour", hour.Start().String(), "addresses", len(addrs))
		}
	}
	return nil
}

// keepUp does what traffic needs in the background: it tells the collector of
// changes, cuts where addresses changed hands, and deletes what is over the
// bounds.
func (s *Server) keepUp(ctx context.Context) {
	var last store.Versions
	var retained time.Time
	begun := false
	for {
		err := func() error {
			v, err := s.Store.Versions(ctx)
			if err != nil {
				return err
			}
			if !begun || v.Workloads != last.Workloads || v.Revision != last.Revision {
				if err := s.refreshHooks(ctx); err != nil {
					return err
				}
			}
			if !begun || v.Workloads != last.Workloads {
				if err := s.repair(ctx); err != nil {
					return err
				}
			}
			if !begun {
				if err := s.finishTurns(ctx); err != nil {
					return err
				}
			}
			begun, last = true, v
			if time.Since(retained) > time.Hour {
				if err := s.retain(ctx); err != nil {
					return err
				}
				retained = time.Now()
			}
			return nil
		}()
		if err != nil && ctx.Err() == nil {
			s.Log.Error("traffic cannot be kept up with the estate just now; it is tried again", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(2 * time.Second):
		}
	}
}
