package sql

import (
	"context"
	"encoding/json"
	"net/netip"
	"time"

	"lucidorchard/traffic"
)

// ServicePorts returns all, oldest first.
func (s *Store) ServicePorts(ctx context.Context) ([]traffic.ServicePort, error) {
	out := []traffic.ServicePort{}
	err := s.SQL.SelectContext(ctx, &out, `SELECT * FROM service_ports ORDER BY at, protocol, port, kind, place`)
	return out, err
}

// AddServicePort keeps one.
func (s *Store) AddServicePort(ctx context.Context, p traffic.ServicePort) error {
	_, err := s.ExecNamed(ctx,
		`INSERT INTO service_ports (protocol, port, kind, place, author)
			VALUES (:protocol, :port, :kind, :place, :author) ON CONFLICT DO NOTHING`, p)
	return err
}

// ServicePortApplied notes that what was stored before agrees with it.
func (s *Store) ServicePortApplied(ctx context.Context, p traffic.ServicePort) error {
	_, err := s.SQL.NamedExecContext(ctx,
		`UPDATE service_ports SET applied = true WHERE protocol = :protocol AND port = :port AND kind = :kind
			AND place = :place`, p)
	return err
}

// RemoveServicePort forgets one; conversations that it turned stay as they are.
func (s *Store) RemoveServicePort(ctx context.Context, p traffic.ServicePort) (found bool, err error) {
	n, err := s.ExecNamed(ctx,
		`DELETE FROM service_ports WHERE protocol = :protocol AND port = :port AND kind = :kind AND place = :place`,
		p)
	return n > 0, err
}

// ExporterHabits returns all, by address.
func (s *Store) ExporterHabits(ctx context.Context) ([]traffic.ExporterHabit, error) {
	var rows []struct {
		Addr, ICMP, Author string
		At                 time.Time
	}
	if err := s.SQL.SelectContext(ctx, &rows,
		`SELECT host(addr) AS addr, icmp, author, at FROM exporter_habits ORDER BY exporter_habits.addr`); err != nil {
		return nil, err
	}
	var out []traffic.ExporterHabit
	for _, r := range rows {
		addr, err := netip.ParseAddr(r.Addr)
		if err != nil {
			return nil, err
		}
		out = append(out, traffic.ExporterHabit{Addr: addr, ICMP: r.ICMP, Author: r.Author, At: r.At})
	}
	return out, nil
}

// SetExporterHabit keeps what somebody says; with a blank ICMP, nothing is said any more.
func (s *Store) SetExporterHabit(ctx context.Context, h traffic.ExporterHabit) error {
	var err error
	if h.ICMP == "" {
		_, err = s.Exec(ctx, `DELETE FROM exporter_habits WHERE addr = $1::inet`, h.Addr.String())
	} else {
		_, err = s.Exec(ctx, `INSERT INTO exporter_habits (addr, icmp, author) VALUES ($1::inet, $2, $3)
			ON CONFLICT (addr) DO UPDATE SET icmp = excluded.icmp, author = excluded.author, at = now()`,
			h.Addr.String(), h.ICMP, h.Author)
	}
	return err
}

// Collectors returns what collectors told, by name.
func (s *Store) Collectors(ctx context.Context) ([]traffic.CollectorState, error) {
	var rows []struct {
		Name  string
		State []byte
		At    time.Time
	}
	err := s.SQL.SelectContext(ctx, &rows, `SELECT name, state, at FROM collectors ORDER BY name`)
	out := make([]traffic.CollectorState, len(rows))
	for i, r := range rows {
		out[i] = traffic.CollectorState{Name: r.Name, State: r.State, At: r.At}
	}
	return out, err
}

// SaveExporters keeps what a collector knows of itself and its exporters.
func (s *Store) SaveExporters(ctx context.Context, collector string, self json.RawMessage,
	states map[netip.Addr]json.RawMessage) error {
	if _, err := s.SQL.ExecContext(ctx,
		`INSERT INTO collectors (name, state) VALUES ($1, $2::json) ON CONFLICT (name) DO UPDATE
			SET state = excluded.state, at = now()`, collector, string(self)); err != nil {
		return err
	}
	for addr, state := range states {
		if _, err := s.SQL.ExecContext(ctx,
			`INSERT INTO exporters (collector, addr, state) VALUES ($1, $2::inet, $3::json)
				ON CONFLICT (collector, addr) DO UPDATE SET state = excluded.state, at = now()`,
			collector, addr.String(), string(state)); err != nil {
			return err
		}
	}
	return nil
}

// Exporters returns what collectors told, by address.
func (s *Store) Exporters(ctx context.Context) ([]traffic.ExporterState, error) {
	var rows []struct {
		Collector, Addr string
		State           []byte
		At              time.Time
	}
	if err := s.SQL.SelectContext(ctx, &rows,
		`SELECT collector, host(addr) AS addr, state, at FROM exporters ORDER BY exporters.addr, collector`); err != nil {
		return nil, err
	}
	var out []traffic.ExporterState
	for _, r := range rows {
		addr, err := netip.ParseAddr(r.Addr)
		if err != nil {
			return nil, err
		}
		out = append(out, traffic.ExporterState{Collector: r.Collector, Addr: addr, State: r.State, At: r.At})
	}
	return out, nil
}

// ForgetExporter removes one from the list; it comes back if it sends again.
func (s *Store) ForgetExporter(ctx context.Context, addr netip.Addr) error {
	_, err := s.Exec(ctx, `DELETE FROM exporters WHERE addr = $1::inet`, addr.String())
	return err
}
