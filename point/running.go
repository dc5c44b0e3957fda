package point

import (
	"context"
	"errors"
	"net/netip"
	"os"
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

	"lucidorchard/core/decide"
	"lucidorchard/core/flow"
	"lucidorchard/core/plan"
	"lucidorchard/core/plan/nft"
	"lucidorchard/core/service"
	"lucidorchard/ingest/wire"
)

// ended is a conversation that was ended: its client's end first.
type ended struct {
	client, server netip.AddrPort
	proto          uint8
	at             time.Time
}

// endedFor is how long its packets are dropped: else one from its middle, that the
// server sends, would begin it anew in the other direction.
const endedFor = time.Hour

// End deletes the entries of the kernel's connection tracking that the plan rejects,
// and drops what comes of them afterwards. Those that it permits again may go on.
func (n *Nftables) End(d *plan.Decider) (count int, err error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	err = n.inside(func(fd int) error {
		c, err := conntrack.Dial(&netlink.Config{NetNS: fd})
		if err != nil {
			return err
		}
		defer c.Close()
		flows, err := c.Dump(nil)
		if err != nil {
			return err
		}
		now := time.Now()
		var over []ended
		for _, f := range flows {
			o := f.TupleOrig
			if o.Proto.ICMPv4 || o.Proto.ICMPv6 {
				continue // each question is a conversation of its own
			}
			e := ended{netip.AddrPortFrom(o.IP.SourceAddress.Unmap(), o.Proto.SourcePort),
				netip.AddrPortFrom(o.IP.DestinationAddress.Unmap(), o.Proto.DestinationPort), o.Proto.Protocol, now}
			if !e.rejected(d) {
				continue
			}
			over = append(over, e)
			if err := c.Delete(f); err != nil && !errors.Is(err, os.ErrNotExist) {
				return err
			}
		}
		count = len(over)
		return n.drop(fd, d, over)
	})
	return count, err
}

func (e *ended) rejected(d *plan.Decider) bool {
	f := d.Decide(e.client.Addr(), e.server.Addr(), service.PointOf(e.proto, uint32(e.server.Port())), time.Now().Unix())
	return f.Concerned && f.Verdict == decide.Reject
}

// drop lets the kernel drop what comes of conversations that are over, and no more of
// those that are permitted again.
func (n *Nftables) drop(fd int, d *plan.Decider, over []ended) error {
	var again []ended
	n.ended = slices.DeleteFunc(n.ended, func(e ended) bool {
		if time.Since(e.at) > endedFor {
			return true // the kernel has forgotten it
		}
		if !e.rejected(d) {
			again = append(again, e)
			return true
		}
		return false
	})
	if len(over)+len(again) == 0 {
		return nil
	}
	n.ended = append(n.ended, over...)
	c, err := nftables.New(nftables.WithNetNSFd(fd))
	if err != nil {
		return err
	}
	for k, name := range nft.Ended {
		s := &nftables.Set{Table: &nftables.Table{Name: nft.Table, Family: nftables.TableFamilyINet}, Name: name,
			HasTimeout: true, Concatenation: true}
		if err := replace(c, s, elementsOf(again, k == 1, 0), elementsOf(over, k == 1, endedFor)); err != nil {
			return err
		}
	}
	return c.Flush()
}

// elementsOf gives both directions of conversations of a family.
func elementsOf(all []ended, six bool, timeout time.Duration) (out []nftables.SetElement) {
	for _, e := range all {
		if e.client.Addr().Is6() != six {
			continue
		}
		for _, way := range [][2]netip.AddrPort{{e.client, e.server}, {e.server, e.client}} {
			key := slices.Concat(way[0].Addr().AsSlice(), way[1].Addr().AsSlice(), []byte{e.proto, 0, 0, 0},
				binaryutil.BigEndian.PutUint16(way[0].Port()), []byte{0, 0},
				binaryutil.BigEndian.PutUint16(way[1].Port()), []byte{0, 0}) // each part fills words of four octets
			out = append(out, nftables.SetElement{Key: key, Timeout: timeout})
		}
	}
	return out
}

// Watch listens to the kernel: to changes of nftables, and to the log of what is
// rejected or uncovered.
func (n *Nftables) Watch(ctx context.Context, changed func(), saw func(flow.Observation)) error {
	ctx, stop := context.WithCancel(ctx)
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
func seen(h *wire.Headers, a nflog.Attribute) (o flow.Observation, ok bool) {
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
	if !h.Read(&o, layers.LinkTypeRaw, packet, octets) {
		return o, false
	}
	at := time.Now()
	if a.Timestamp != nil && !a.Timestamp.IsZero() {
		at = *a.Timestamp
	}
	o.Outcome = flow.Carried
	if strings.HasSuffix(*a.Prefix, " reject") {
		o.Outcome = flow.Dropped
	}
	o.Start, o.End, o.Packet = flow.MicrosOf(at), flow.MicrosOf(at), false
	return o, true
}
