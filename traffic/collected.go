package traffic

import (
	"time"

	"lucidorchard/core/flow"
)

// Stored is something that the database has taken.
type Stored struct {
	Version int64         // of the conversations, with it
	Fresh   []flow.Bucket // what is new of it, where that is known
}

// ExporterStatus is what a collector knows of one exporter.
type ExporterStatus struct {
	Addr     string         `json:"addr"`
	First    time.Time      `json:"first"`
	Last     time.Time      `json:"last"`
	Sessions int            `json:"sessions" doc:"Ports that it sends from"`
	Rate     float64        `json:"rate" doc:"Records a second"`
	Octets   int64          `json:"octets"`
	Streams  []StreamStatus `json:"streams"`
	Unread   []FaultStatus  `json:"unread" doc:"Packets that could not be read to their end, by the reason"`
	Fault    string         `json:"fault,omitempty" doc:"What was wrong with the last of them"`
	FaultAt  *time.Time     `json:"faultAt,omitempty"`
}

// FaultStatus is a number of packets with a reason.
type FaultStatus struct {
	Reason  string `json:"reason"`
	Packets int64  `json:"packets"`
}

// StreamStatus is what one exporter sends in one protocol from one domain.
type StreamStatus struct {
	Protocol    string  `json:"protocol"`
	Transport   string  `json:"transport" enum:"udp,tcp"`
	Port        uint16  `json:"port" doc:"That it sends from"`
	Domain      uint32  `json:"domain"`
	Messages    int64   `json:"messages"`
	Records     int64   `json:"records"`
	Options     int64   `json:"options" doc:"Records that speak of the exporter"`
	NoFlow      int64   `json:"noFlow" doc:"Records without addresses"`
	Untemplated int64   `json:"untemplated" doc:"Sets that came before their template"`
	Templates   int     `json:"templates"`
	Missed      int64   `json:"missed" doc:"By the sequence numbers"`
	Unit        string  `json:"unit" doc:"What the sequence numbers count"`
	Late        int64   `json:"late"`
	Restarts    int64   `json:"restarts"`
	Sampling    int64   `json:"sampling"`
	ICMP        string  `json:"icmp,omitempty" enum:"unlearnt,destination,source,nowhere" doc:"Where it writes the types of ICMP messages for which its records have no field, as it has shown; absent: there were none"`
	Mixed       bool    `json:"mixed,omitempty" doc:"Two exporters send in its name: their sequence numbers alternate, so missed records cannot be counted"`
	Skew        float64 `json:"skew" doc:"Arrival less the exporter's clock, in seconds"`
}
