package traffic

import (
	"encoding/json"
	"net/netip"
	"time"
)

// ServicePort is what people said of a port: it is a service at a place.
type ServicePort struct {
	Protocol uint8     `db:"protocol"`
	Port     uint16    `db:"port"`
	Kind     string    `db:"kind"`  // everywhere, group, workload, address
	Place    string    `db:"place"` // name, id or CIDR; blank: everywhere
	Author   string    `db:"author"`
	At       time.Time `db:"at"`
	Applied  bool      `db:"applied"` // to what was stored before
}

// ExporterHabit is what people said of an exporter: where it writes the types of ICMP
// messages for which its records have no field.
type ExporterHabit struct {
	Addr   netip.Addr
	ICMP   string // destination, source, nowhere
	Author string
	At     time.Time
}

// ExporterState is what a collector last told of an exporter.
type ExporterState struct {
	Collector string
	Addr      netip.Addr
	State     json.RawMessage
	At        time.Time
}

// CollectorState is what a collector last told of itself.
type CollectorState struct {
	Name  string
	State json.RawMessage
	At    time.Time
}
