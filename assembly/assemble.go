package assembly

import (
	"cmp"
	"context"
	"io/fs"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"lucidorchard/answers"
	auditingrest "lucidorchard/auditing/rest"
	checkingrest "lucidorchard/checking/rest"
	"lucidorchard/collect"
	draftingrest "lucidorchard/drafting/rest"
	groupingrest "lucidorchard/grouping/rest"
	inventoryrest "lucidorchard/inventory/rest"
	releasingrest "lucidorchard/releasing/rest"
	"lucidorchard/server"
	trafficrest "lucidorchard/traffic/rest"
	transferrest "lucidorchard/transfer/rest"
	troublerest "lucidorchard/trouble/rest"
	watchingrest "lucidorchard/watching/rest"
)

// HandlerOptions are what the API needs beside what its App has.
type HandlerOptions struct {
	Web        fs.FS               // the built interface; without an index.html, a page says how to build it
	Estate     string              // its name until somebody sets one
	Uploads    string              // folder of files that are sent here; blank: the system's for such
	Cluster    troublerest.Cluster // a database of our own; nil: somebody else's
	AllowHosts []string            // names, in lower case, by which this server may be called
	Patience   server.Patience     // with slow clients
	Trusting   string              // the address on which everybody is let in; blank: loopback only
}

// Site is an App with its server.
type Site struct {
	*server.Server
	*App
}

// Handler returns the whole API and the interface over an App.
func Handler(a *App, o HandlerOptions) *Site {
	ko := server.Options{Log: a.Log, Events: &a.Events, Runner: a.Runner, Disk: a.Disk, Done: a.Done(),
		Uploads: o.Uploads, Web: o.Web,
		AllowHosts: o.AllowHosts, Patience: o.Patience, Gauges: gauges(a)}
	if a.Store != nil {
		ko.Store = a.Store
		ko.Authorize = func(ctx context.Context, secret string) (*server.Token, error) {
			t, err := a.Store.UseToken(ctx, secret)
			if err != nil || t == nil {
				return nil, err
			}
			return &server.Token{Name: t.Name, Source: t.Source, Release: t.Release}, nil
		}
	}
	k := server.NewKit(ko)
	d := &answers.Desk{Models: a.Models, Ledger: a.Reader}
	e := &answers.Editor{Drafting: a.Drafting}
	company := func(ctx context.Context) (string, bool, error) {
		c, err := a.Transfer.Company(ctx)
		return cmp.Or(c.Name, o.Estate), c.MadeUp, err
	}
	return &Site{App: a, Server: server.New(k,
		&troublerest.Troubles{Disk: a.Disk, Cluster: o.Cluster, Collector: a.Collector, Models: a.Models,
			Trusting: o.Trusting},
		&checkingrest.Summaries{Desk: d, Service: a.Drafting, Company: company},

		&inventoryrest.Workloads{Desk: d, Selector: &inventoryrest.Selector{Sides: a.Releasing.Sides},
			Service:   a.Inventory,
			Releasing: a.Releasing},
		&inventoryrest.Sources{Kit: k, Desk: d, Service: a.Inventory, Known: a.Releasing.Known},
		&inventoryrest.Vocabulary{Desk: d, Service: a.Inventory},
		&inventoryrest.Imports{Kit: k, Desk: d, Service: a.Inventory},

		&groupingrest.Groups{Desk: d, Editor: e, Service: a.Grouping},
		&groupingrest.Starters{Desk: d, Editor: e},

		&trafficrest.Flows{Desk: d, Service: a.Traffic},
		&trafficrest.Exporters{Desk: d, Service: a.Traffic},
		&trafficrest.Imports{Kit: k, Desk: d, Service: a.Traffic},

		&draftingrest.Policy{Desk: d, Editor: e, Service: a.Drafting, Known: a.Releasing.Known},
		&draftingrest.Derivations{Desk: d, Service: a.Drafting},

		&checkingrest.Asking{Desk: d, Service: a.Drafting, Releasing: a.Releasing},
		&checkingrest.Checks{Desk: d, Service: a.Drafting},
		&checkingrest.WhatIfs{Desk: d, Service: a.Drafting},
		&checkingrest.Settling{Desk: d, Editor: e, Service: a.Drafting},
		&checkingrest.Reports{Desk: d, Service: a.Drafting, Company: company},
		&checkingrest.Usage{Desk: d},

		&releasingrest.Releases{Desk: d, Service: a.Releasing},
		&releasingrest.Pipeline{Desk: d, Service: a.Releasing},
		&watchingrest.Watching{Kit: k, Desk: d, Service: a.Watching, Releasing: a.Releasing},
		&auditingrest.Proofs{Kit: k, Desk: d, Service: a.Auditing, Here: a.Here},
		&transferrest.Transfers{Kit: k, Service: a.Transfer})}
}

// collecting reports the collector in this process.
func collecting(c *collect.Collector) (out []prometheus.Collector) {
	gauge := func(name, help string, value func(collect.Status) float64) {
		out = append(out, prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help},
			func() float64 { return value(c.Status()) }))
	}
	gauge("orchard_collector_records_per_second", "Records of exporters, over the last seconds.",
		func(s collect.Status) float64 { return s.Rate })
	gauge("orchard_collector_sessions", "Sessions in memory.",
		func(s collect.Status) float64 { return float64(s.Sessions) })
	gauge("orchard_collector_spooled_batches", "Batches that the database has not taken yet.",
		func(s collect.Status) float64 { return float64(s.Spooled) })
	gauge("orchard_collector_spooled_bytes", "What they take on disk.",
		func(s collect.Status) float64 { return float64(s.SpoolBytes) })
	gauge("orchard_collector_behind_seconds", "Age of the oldest of them.",
		func(s collect.Status) float64 { return s.Behind })
	gauge("orchard_collector_memory_records", "Records that are in memory only.",
		func(s collect.Status) float64 { return float64(s.Waiting) })
	gauge("orchard_collector_set_aside_batches",
		"Batches that the database refused for what they hold since the start.",
		func(s collect.Status) float64 { return float64(s.SetAside) })
	gauge("orchard_collector_lost_records", "Records for which there was no room since the start.",
		func(s collect.Status) float64 { return float64(s.Lost) })
	return out
}

// keeping reports jobs, the model and the disks.
func gauges(a *App) (out []prometheus.Collector) {
	if a.Collector != nil {
		out = collecting(a.Collector)
	}
	gauge := func(name, help string, value func() float64) {
		out = append(out, prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help}, value))
	}
	gauge("orchard_jobs_running", "Jobs that this server runs.", func() float64 { return float64(a.Running()) })
	gauge("orchard_model_age_seconds", "Since when the state that answers are made from is the current one.",
		func() float64 {
			if now := a.Models.Held(); now != nil {
				return time.Since(now.Made).Seconds()
			}
			return 0
		})
	gauge("orchard_model_failing_seconds", "For how long that state could not be brought up to date; 0: it can.",
		func() float64 {
			if since, err := a.Models.Away(); err != nil {
				return time.Since(since).Seconds()
			}
			return 0
		})
	for _, d := range a.Disk.States() {
		out = append(out, prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "orchard_disk_free_bytes",
			Help:        "What may still be written, without the reserve.",
			ConstLabels: prometheus.Labels{"folder": d.Name}}, func() float64 {
			for _, now := range a.Disk.States() {
				if now.Name == d.Name {
					return float64(now.Free)
				}
			}
			return 0
		}))
	}
	return out
}
