package point

import (
	"context"
	"encoding/json"
	"errors"
	"maps"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/florianl/go-nflog/v2"
	"github.com/google/nftables"
	"github.com/google/nftables/binaryutil"
	"github.com/gopacket/gopacket/layers"
	"github.com/mdlayher/netlink"
	"github.com/ti-mo/conntrack"
	"golang.org/x/sys/unix"

	"lucidorchard/core/flow"
	"lucidorchard/core/plan"
	"lucidorchard/core/plan/nft"
	"lucidorchard/core/service"
	"lucidorchard/ingest/wire"
)

// ended is a connection that was ended, in the direction in which it was tracked.
type ended struct {
	Client netip.AddrPort `json:"client"`
	Server netip.AddrPort `json:"server"`
	Proto  uint8          `json:"proto"`
}

// since is when a connection was ended, and whether its direction was proven.
type since struct {
	At     time.Time `json:"at"`
	Proven bool      `json:"proven"`
}

// liberal marks TCP connections that the kernel picked up in their middle
// (IP_CT_TCP_FLAG_BE_LIBERAL of both directions). Flags come in the upper octet, their
// mask in the lower one.
const liberal = 0x08 << 8

// running makes a conversation of an entry of the kernel's connection tracking, as its
// packets pass the filter: after the server's address is translated, before the
// client's is.
func running(f *conntrack.Flow) plan.Running {
	o, back := &f.TupleOrig, &f.TupleReply
	r := plan.Running{Proto: o.Proto.Protocol}
	if o.Proto.ICMPv4 || o.Proto.ICMPv6 {
		r.Client = netip.AddrPortFrom(o.IP.SourceAddress.Unmap(), 0)
		r.Server = netip.AddrPortFrom(back.IP.SourceAddress.Unmap(),
			uint16(o.Proto.ICMPType)<<8|uint16(o.Proto.ICMPCode))
		return r
	}
	r.Client = netip.AddrPortFrom(o.IP.SourceAddress.Unmap(), o.Proto.SourcePort)
	r.Server = netip.AddrPortFrom(back.IP.SourceAddress.Unmap(), back.Proto.SourcePort)
	if tcp := f.ProtoInfo.TCP; tcp != nil {
		r.Proven = tcp.OriginalFlags&liberal == 0 || tcp.ReplyFlags&liberal == 0
	}
	return r
}

// End ends the running conversations that the plan ends: their packets are dropped from
// now on, then their entries in the kernel's connection tracking are deleted. Those that
// the plan permits again may go on.
func (n *Nftables) End(d *plan.Decider) (count int, err error) {
	err = n.withTracking(func(c *conntrack.Conn) error {
		flows, err := c.Dump(nil)
		if err != nil {
			return err
		}
		now := time.Now().Unix()
		var gone []conntrack.Flow
		over := map[ended]since{}
		for i := range flows {
			r := running(&flows[i])
			if !d.Ends(r, now) {
				continue
			}
			gone = append(gone, flows[i])
			if !service.IsICMP(r.Proto) { // what an echo is answered with opens nothing
				over[ended{r.Client, r.Server, r.Proto}] = since{time.Now(), r.Proven}
			}
		}
		count = len(gone)
		if err := n.drop(d, over); err != nil {
			return err
		}
		for _, f := range gone {
			if err := c.Delete(f); err != nil && !errors.Is(err, os.ErrNotExist) {
				return err
			}
		}
		return nil
	})
	return count, err
}

// drop lets the kernel drop the packets of connections that are over, and no longer
// those of connections that the plan permits again.
func (n *Nftables) drop(d *plan.Decider, over map[ended]since) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.recallEnded()
	var again, fresh []ended
	for e, x := range n.ended {
		if !d.Ends(plan.Running{Client: e.Client, Server: e.Server, Proto: e.Proto, Proven: x.Proven},
			time.Now().Unix()) {
			again = append(again, e)
			delete(n.ended, e)
		}
	}
	for e, x := range over {
		_, known := n.ended[e]
		_, turned := n.ended[ended{e.Server, e.Client, e.Proto}] // the same packets
		if !known && !turned {
			fresh = append(fresh, e)
			n.ended[e] = x
		}
	}
	if len(fresh)+len(again) == 0 {
		return nil
	}
	if err := n.keepEnded(); err != nil { // it is dropped all the same, until the machine restarts
		return errors.Join(err, n.replaceEnded(again, fresh))
	}
	return n.replaceEnded(again, fresh)
}

// perBatch is how many elements of ended connections go into one transaction.
const perBatch = 20_000

func (n *Nftables) replaceEnded(gone, come []ended) error {
	return n.withTables(func(c *nftables.Conn) error { return n.replaceEndedBy(c, gone, come) })
}

func (n *Nftables) replaceEndedBy(c *nftables.Conn, gone, come []ended) error {
	for k := range nft.Ended {
		freed := keysOf(gone, k == 1)
		for _, e := range freed {
			n.freed[string(e.Key)] = time.Now()
		}
		if err := remove(c, endedSet(k), freed); err != nil {
			return err
		}
		for part := range slices.Chunk(keysOf(come, k == 1), perBatch) {
			for _, e := range part {
				delete(n.freed, string(e.Key))
			}
			if err := replace(c, endedSet(k), nil, part); err != nil {
				return err
			}
			if err := c.Flush(); err != nil {
				return err
			}
		}
	}
	return nil
}

func endedSet(k int) *nftables.Set {
	return &nftables.Set{Table: table, Name: nft.Ended[k], HasTimeout: true, Concatenation: true}
}

// remove deletes elements of ended connections, as far as they are there.
func remove(c *nftables.Conn, s *nftables.Set, gone []nftables.SetElement) error {
	for part := range slices.Chunk(gone, perBatch) {
		if err := replace(c, s, part, nil); err != nil {
			return err
		}
		err := c.Flush()
		if !errors.Is(err, os.ErrNotExist) {
			if err != nil {
				return err
			}
			continue
		}
		for i := range part { // some expired, so none was deleted: one by one
			if err := replace(c, s, part[i:i+1], nil); err != nil {
				return err
			}
			if err := c.Flush(); err != nil && !errors.Is(err, os.ErrNotExist) {
				return err
			}
		}
	}
	return nil
}

// directions calls f with both directions of a connection.
func (e ended) directions(f func(x nft.Element)) {
	f(nft.Element{From: e.Client, To: e.Server, Proto: e.Proto})
	if e.Client != e.Server {
		f(nft.Element{From: e.Server, To: e.Client, Proto: e.Proto})
	}
}

func elementsOf(all []ended) (out []nft.Element) {
	for _, e := range all {
		e.directions(func(x nft.Element) { out = append(out, x) })
	}
	return out
}

// keysOf returns the elements of connections of a family. Each part of a key fills words
// of four octets.
func keysOf(all []ended, six bool) (out []nftables.SetElement) {
	for _, e := range all {
		if e.Client.Addr().Is6() != six {
			continue
		}
		e.directions(func(x nft.Element) {
			out = append(out, nftables.SetElement{Timeout: nft.EndedFor, Key: slices.Concat(x.From.Addr().AsSlice(),
				x.To.Addr().AsSlice(), []byte{x.Proto, 0, 0, 0}, binaryutil.BigEndian.PutUint16(x.From.Port()),
				[]byte{0, 0},
				binaryutil.BigEndian.PutUint16(x.To.Port()), []byte{0, 0})})
		})
	}
	return out
}

// endedNow returns the connections that are ended.
func (n *Nftables) endedNow() map[ended]since {
	n.mu.Lock()
	defer n.mu.Unlock()
	return maps.Clone(n.ended)
}

// compareEnded counts the directions of ended connections that the kernel should drop
// and does not, and those that it drops though nobody ended them. before is what was
// ended before the kernel was read: what changed meanwhile is neither. back is elements of
// connections that were permitted again, which a packet brought back: they are to be
// deleted once more.
func (n *Nftables) compareEnded(elements []nftables.SetElement, six bool, before map[ended]since) (missing, extra int,
	back []nftables.SetElement) {
	n.mu.Lock()
	defer n.mu.Unlock()
	there := map[string]bool{}
	for _, e := range elements {
		there[string(e.Key)] = true
	}
	for e, x := range n.ended {
		old := time.Since(x.At) > nft.EndedFor
		_, both := before[e]
		for _, k := range keysOf([]ended{e}, six) {
			switch {
			case there[string(k.Key)]:
				delete(there, string(k.Key))
			case old: // no packet came for so long that the kernel forgot it
				delete(n.ended, e)
			case both:
				missing++
			}
		}
	}
	for e := range before {
		for _, k := range keysOf([]ended{e}, six) {
			delete(there, string(k.Key)) // permitted again meanwhile
		}
	}
	for key, at := range n.freed {
		if there[key] {
			back = append(back, nftables.SetElement{Key: []byte(key)})
			delete(there, key)
		} else if time.Since(at) > time.Minute {
			delete(n.freed, key)
		}
	}
	return missing, len(there), back
}

// keptEnded is an ended connection on the disk.
type keptEnded struct {
	ended
	since
}

func (n *Nftables) endedFile() string { return filepath.Join(n.Dir, "ended.json") }

// recallEnded reads the connections that were ended before a restart, once.
func (n *Nftables) recallEnded() {
	if n.ended == nil {
		n.ended, n.freed = map[ended]since{}, map[string]time.Time{}
	}
	if n.loaded || n.Dir == "" {
		return
	}
	n.loaded = true
	raw, err := os.ReadFile(n.endedFile())
	var all []keptEnded
	if err != nil || json.Unmarshal(raw, &all) != nil {
		return // nothing was ended, or nobody knows
	}
	for _, e := range all {
		n.ended[e.ended] = e.since
	}
}

// keepEnded writes the ended connections to the disk.
func (n *Nftables) keepEnded() error {
	if n.Dir == "" {
		return nil
	}
	all := make([]keptEnded, 0, len(n.ended))
	for e, x := range n.ended {
		all = append(all, keptEnded{e, x})
	}
	raw, err := json.Marshal(all)
	if err != nil {
		return err
	}
	return writeWhole(n.endedFile(), raw)
}

// Watch listens to the kernel: to changes of nftables, and to the log of what is
// rejected or uncovered.
func (n *Nftables) Watch(ctx context.Context, changed func(), saw func(sight)) error {
	ctx, stop := context.WithCancel(ctx)
	defer n.Close()
	defer stop() // so that all is closed, whatever ends it
	return n.inside(func(fd int) error {
		changes, err := netlink.Dial(unix.NETLINK_NETFILTER, &netlink.Config{NetNS: fd})
		if err != nil {
			return err
		}
		if err := changes.JoinGroup(unix.NFNLGRP_NFTABLES); err != nil {
			return errors.Join(err, changes.Close())
		}
		log, err := nflog.Open(&nflog.Config{NetNS: fd, Group: logGroup, Copymode: nflog.CopyPacket, Bufsize: 128})
		if err != nil {
			return errors.Join(err, changes.Close())
		}
		headers := wire.NewHeaders()
		err = log.RegisterWithErrorFunc(ctx, func(a nflog.Attribute) int {
			if o, ok := seen(headers, a); ok {
				saw(o)
			}
			return 0
		}, func(error) int { return 0 }) // what the kernel had no room for is in the counts all the same
		if err != nil {
			return errors.Join(err, log.Close(), changes.Close())
		}
		go func() {
			<-ctx.Done()
			_ = changes.Close()
			_ = log.Close()
		}()
		for {
			if _, err := changes.Receive(); err != nil && ctx.Err() != nil {
				return nil
			} else if err != nil && !errors.Is(err, unix.ENOBUFS) { // too many at once are changes too
				return err
			}
			changed()
		}
	})
}

// seen makes an observation of a packet of the log.
func seen(h *wire.Headers, a nflog.Attribute) (o sight, ok bool) {
	if a.Payload == nil || a.Prefix == nil || len(*a.Payload) == 0 {
		return o, false
	}
	packet := *a.Payload
	octets := len(packet)
	if len(packet) >= 6 && packet[0]>>4 == 4 {
		octets = int(packet[2])<<8 | int(packet[3])
	} else if len(packet) >= 6 {
		octets = 40 + (int(packet[4])<<8 | int(packet[5]))
	}
	if !h.Read(&o.Observation, layers.LinkTypeRaw, packet, octets) {
		return o, false
	}
	at := time.Now()
	if a.Timestamp != nil && !a.Timestamp.IsZero() {
		at = *a.Timestamp
	}
	o.Trial = strings.HasPrefix(*a.Prefix, nft.ObservedPrefix)
	o.Outcome = flow.Carried
	if strings.HasSuffix(*a.Prefix, " reject") {
		o.Outcome = flow.Dropped
	}
	o.Start, o.End, o.Packet = flow.MicrosOf(at), flow.MicrosOf(at), false
	return o, true
}
