package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/signal"
	"os/user"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"lucidorchard/collect"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/demo"
	"lucidorchard/server"
	"lucidorchard/store"
	"lucidorchard/web"
)

type serveOptions struct {
	listen, database, data, author string
	demo, live, scratch            bool
	scale                          int
	listening                      listening
}

// listening is where records of exporters are waited for.
type listening struct {
	ipfix, tcp, netflow, sflow string
	allow                      []string
	spool                      string
	hold                       time.Duration
	chosen                     func(flag string) bool
}

func serveCommand() *cobra.Command {
	var o serveOptions
	cmd := &cobra.Command{
		Use:   "serve [--listen ADDRESS] [--database-url URL | --data DIR] [--demo]",
		Short: "Run the web application, on loopback unless told otherwise",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			o.listening.chosen = cmd.Flags().Changed
			return serve(ctx, o)
		},
	}
	cmd.Flags().StringVar(&o.listen, "listen", "127.0.0.1:7411", "address to listen on; port 0 takes a free one")
	cmd.Flags().StringVar(&o.database, "database-url", "", "PostgreSQL 15 or later to use; without it, a cluster of our own is started on loopback")
	cmd.Flags().StringVar(&o.data, "data", "var", "folder of our own cluster")
	cmd.Flags().StringVar(&o.author, "author", "", "name that changes are kept under (default the user who runs this)")
	cmd.Flags().BoolVar(&o.demo, "demo", false, "fill an empty database with the made-up company")
	cmd.Flags().IntVar(&o.scale, "scale", 420, "with --demo: about how many workloads, up to 100000")
	cmd.Flags().BoolVar(&o.live, "live", true, "with --demo: send part of the company's traffic live, over IPFIX")
	cmd.Flags().BoolVar(&o.scratch, "scratch", false, "trade the durability of our own cluster for speed: for tests")
	l := &o.listening
	cmd.Flags().StringVar(&l.ipfix, "ipfix", "127.0.0.1:4739", "UDP address for IPFIX; off for none. Every protocol is understood on each of the three")
	cmd.Flags().StringVar(&l.tcp, "ipfix-tcp", "127.0.0.1:4739", "TCP address for IPFIX; off for none")
	cmd.Flags().StringVar(&l.netflow, "netflow", "127.0.0.1:2055", "UDP address for NetFlow v5 and v9; off for none")
	cmd.Flags().StringVar(&l.sflow, "sflow", "127.0.0.1:6343", "UDP address for sFlow v5; off for none")
	cmd.Flags().StringSliceVar(&l.allow, "exporters", nil, "addresses or CIDRs that may send records (default whoever reaches the address)")
	cmd.Flags().DurationVar(&l.hold, "hold", 10*time.Second, "how long a record waits for the other direction of its connection")
	cmd.Flags().StringVar(&l.spool, "spool", "", "folder for records that the database has not taken yet (default the folder spool in --data)")
	return cmd
}

func openapiCommand() *cobra.Command {
	return &cobra.Command{
		Use:    "openapi",
		Short:  "Print the description of the API",
		Args:   cobra.NoArgs,
		Hidden: true,
		RunE: func(*cobra.Command, []string) error {
			s, err := server.New(context.Background(), server.Options{})
			if err != nil {
				return err
			}
			text, err := s.OpenAPI()
			if err != nil {
				return err
			}
			return writeAll("", string(text)+"\n")
		},
	}
}

func serve(ctx context.Context, o serveOptions) error {
	if o.demo && (o.scale < 100 || o.scale > 100_000) {
		return unusable("--scale: found %d, expected 100 to 100000 workloads", o.scale)
	}
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	url := o.database
	if url == "" {
		cluster, err := store.StartCluster(ctx, o.data, o.scratch)
		if err != nil {
			return unusable("%s", err)
		}
		defer cluster.Stop()
		log.Info("PostgreSQL runs on loopback", "data", cluster.Dir)
		url = cluster.URL
	}
	db, err := store.Open(ctx, url)
	if err != nil {
		return unusable("%s", err)
	}
	defer db.Close()
	name := "Estate"
	if o.demo {
		if err := loadDemo(ctx, db, o.scale, log); err != nil {
			return unusable("loading the demo: %s", err)
		}
		name = "Saltmarsh Ferries"
	}
	if o.author == "" {
		o.author = "you"
		if u, err := user.Current(); err == nil && u.Username != "" {
			o.author = u.Username
		}
	}
	// Requests end before the context of the jobs does, and jobs before the
	// database.
	work, cancel := context.WithCancel(context.WithoutCancel(ctx))
	defer cancel()
	collector, err := collecting(ctx, db, o, log)
	if err != nil {
		return unusable("%s", err)
	}
	stopCollecting := sync.OnceFunc(func() {
		if collector != nil {
			collector.Stop()
		}
	})
	defer stopCollecting()
	s, err := server.New(work, server.Options{Store: db, Web: web.Dist, Author: o.author, Estate: name, Log: log, Collector: collector})
	if err != nil {
		return unusable("%s", err)
	}
	listener, err := net.Listen("tcp", o.listen)
	if err != nil {
		return unusable("%s", err)
	}
	h := &http.Server{Handler: s, ReadHeaderTimeout: 10 * time.Second}
	fmt.Printf("Lucid Orchard is at http://%s\n", listener.Addr())
	if collector != nil {
		fmt.Printf("Records of exporters are taken at %s\n", strings.Join(collector.Listening, ", "))
		if o.demo && o.live {
			if target, ok := collector.Address("udp"); ok {
				sender := demo.NewSender(o.scale)
				defer sender.Stop()
				if err := sender.Start(target); err != nil {
					return unusable("%s", err)
				}
			}
		}
	}
	failed := make(chan error, 1)
	go func() { failed <- h.Serve(listener) }()
	select {
	case err := <-failed:
		return unusable("%s", err)
	case <-ctx.Done():
	}
	log.Info("stopping")
	stopCollecting()
	cancel()
	s.Wait()
	grace, done := context.WithTimeout(context.Background(), 10*time.Second)
	defer done()
	if err := h.Shutdown(grace); err != nil && !errors.Is(err, context.DeadlineExceeded) {
		return unusable("%s", err)
	}
	return nil
}

// collecting starts the collector. A default address that something else uses is
// left out with a warning; one that was chosen must be free.
func collecting(ctx context.Context, db *store.Store, o serveOptions, log *slog.Logger) (*collect.Collector, error) {
	l := o.listening
	c := collect.Options{Store: db, Name: "server", Log: log, Spool: l.spool, Hold: l.hold}
	if c.Spool == "" {
		c.Spool = filepath.Join(o.data, "spool")
	}
	for _, a := range l.allow {
		p, err := netip.ParsePrefix(a)
		if err != nil {
			addr, bad := netip.ParseAddr(a)
			if bad != nil {
				return nil, fmt.Errorf("--exporters: found %q, expected an IP address or a CIDR", a)
			}
			p = netip.PrefixFrom(addr, addr.BitLen())
		}
		c.Allow = append(c.Allow, p.Masked())
	}
	for _, x := range []struct {
		flag, address, network string
		to                     *[]string
	}{{"ipfix", l.ipfix, "udp", &c.UDP}, {"netflow", l.netflow, "udp", &c.UDP}, {"sflow", l.sflow, "udp", &c.UDP}, {"ipfix-tcp", l.tcp, "tcp", &c.TCP}} {
		if x.address == "off" || x.address == "" {
			continue
		}
		if err := free(x.network, x.address); err != nil {
			if l.chosen != nil && l.chosen(x.flag) {
				return nil, fmt.Errorf("--%s: %w", x.flag, err)
			}
			log.Warn("no records are taken here", "address", x.network+" "+x.address, "error", err)
			continue
		}
		*x.to = append(*x.to, x.address)
	}
	if len(c.UDP)+len(c.TCP) == 0 {
		return nil, nil
	}
	return collect.Start(ctx, c)
}

// free tries an address.
func free(network, address string) error {
	if network == "tcp" {
		l, err := net.Listen("tcp", address)
		if err != nil {
			return err
		}
		return l.Close()
	}
	c, err := net.ListenPacket("udp", address)
	if err != nil {
		return err
	}
	return c.Close()
}

// loadDemo fills an empty database.
func loadDemo(ctx context.Context, db *store.Store, scale int, log *slog.Logger) error {
	v, err := db.Versions(ctx)
	if err != nil {
		return err
	}
	if v != (store.Versions{}) {
		log.Info("the database is not empty: the demo is not loaded again")
		return nil
	}
	start := time.Now()
	c := demo.Generate(demo.Options{End: start, Workloads: scale})
	bySource := map[string][]estate.Workload{}
	for _, w := range c.Workloads {
		bySource[w.Tags[0].Source] = append(bySource[w.Tags[0].Source], w)
	}
	for source, ws := range bySource {
		if err := db.ImportWorkloads(ctx, source, []string{"app", "tier", "env", "site"}, ws); err != nil {
			return err
		}
	}
	e, conflicts := estate.New(c.Workloads)
	if len(conflicts) > 0 {
		return conflicts[0]
	}
	if _, err := db.AddBatch(ctx, store.BatchOf("demo", flow.Stating(c.Records), e.ChangedHands)); err != nil {
		return err
	}
	p, errs := policy.Parse(c.Policy)
	if len(errs) > 0 {
		return errs[0]
	}
	text := p.Format()
	blame := make(store.Blame, len(policy.Lines(text)))
	for i := range blame {
		blame[i] = 1
	}
	if err := db.Begin(ctx, store.Revision{No: 1, Text: text, Blame: blame, Author: "harbour office", Words: "Start with the policy of Saltmarsh Ferries"}); err != nil {
		return err
	}
	log.Info("loaded Saltmarsh Ferries", "workloads", len(c.Workloads), "flows", len(c.Records), "took", time.Since(start).Round(time.Millisecond))
	return nil
}
