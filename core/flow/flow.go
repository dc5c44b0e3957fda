// Package flow has what was seen on the network: conversations from client to server, in
// buckets of an hour, and the totals over them.
//
// # Input and output
//
//	Observation  what an exporter reports: one direction, or both, of a session, in an interval
//	  Joiner     puts directions, intervals and exporters together, and finds who is the client
//	Joined       a session, or what it has had since the last: client, server, point, outcome
//	  Buckets    add up, by conversation (client, server, point) and hour
//	Table        the rows of many hours, in columns, to be decided and counted
//
// A session that several exporters see is counted once. Of one that goes on, each Joined has what is
// new. Times are Micros since 1970, UTC; an Hour is one of 3,600 s since then. Amounts are
// connections, bytes and packets of both directions; sums stop at [Most] instead of overflowing.
// Confidence, in percent, is how sure the direction is: from [Sure] on it is not questioned.
//
// A Joiner and Buckets are not for several goroutines. A Table is never changed once it is made, and
// may be shared; Plus makes the next one.
//
// The package must not know of policies. Start reading at Record, then Joiner, Buckets and Table.
package flow

import (
	"net/netip"
	"strings"

	"lucidorchard/core/estate"
	"lucidorchard/core/service"
)

// Outcome is what the network did with a flow, as an exporter reported it.
type Outcome uint8

// The outcomes. Unknown is the zero value.
const (
	Unknown Outcome = iota
	Carried
	Dropped
)

func (o Outcome) String() string { return [...]string{"", "carried", "dropped"}[o] }

// ParseOutcome reads carried, dropped or blank.
func ParseOutcome(s string) (Outcome, bool) {
	switch s {
	case "":
		return Unknown, true
	case "carried":
		return Carried, true
	case "dropped":
		return Dropped, true
	}
	return Unknown, false
}

// Record is one client-to-server conversation as it was observed.
type Record struct {
	Start, End     estate.Instant // End is Start where it is not known
	Client, Server netip.Addr
	Point          service.Point // protocol and destination port
	SourcePort     uint16
	Bytes, Packets int64
	Connections    int64
	Outcome        Outcome
	Observer       string
}

// Hour is the number of whole hours since 1970-01-01T00:00:00Z.
type Hour int32

// HourOf returns the hour bucket of an instant.
func HourOf(t estate.Instant) Hour {
	s := t.Sec
	if s < 0 {
		s -= 3599
	}
	return Hour(s / 3600)
}

// Start returns the first instant of the hour.
func (h Hour) Start() estate.Instant { return estate.Instant{Sec: int64(h) * 3600} }

// ServiceName returns the well-known name of a point (IANA Service Name
// Registry), or an empty string: a help for reading, never for deciding.
func ServiceName(p service.Point) string {
	return wellKnown[p.String()]
}

var wellKnown = func() map[string]string {
	m := map[string]string{}
	for _, f := range strings.Fields(
		`tcp/22=ssh tcp/23=telnet tcp/53=dns udp/53=dns tcp/80=http tcp/88=kerberos udp/123=ntp
		udp/161=snmp tcp/389=ldap tcp/443=https udp/514=syslog tcp/514=syslog tcp/636=ldaps tcp/873=rsync tcp/1433=mssql
		tcp/1521=oracle tcp/2049=nfs tcp/3306=mysql tcp/3389=rdp tcp/5432=postgres tcp/5671=amqps tcp/5672=amqp
		tcp/6379=redis tcp/8080=http-alt tcp/8443=https-alt tcp/9092=kafka tcp/9100=metrics tcp/27017=mongodb`) {
		k, v, _ := strings.Cut(f, "=")
		m[k] = v
	}
	return m
}()
