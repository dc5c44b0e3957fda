package point

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"
	"github.com/mdlayher/netlink"
	"golang.org/x/sys/unix"

	"lucidorchard/core/plan"
	"lucidorchard/core/plan/nft"
)

// Nftables is the kernel of the machine that the program runs on. It writes the table
// inet lucid_orchard, for moments another beside it, and no other. Whole plans are loaded
// by nft; addresses come and go over netlink, in one transaction. It is safe for use by
// several goroutines.
type Nftables struct {
	Namespace string // name of a network namespace; blank: the one that the program runs in
	Dir       string // folder that remembers ended connections over restarts; blank: nothing does

	open   sockets
	mu     sync.Mutex
	ended  map[ended]since // connections that were ended: they must not go on
	loaded bool            // ended was read from Dir
	// freed is connections that were permitted again lately, by the keys of their elements. A
	// packet that met an element just before it was deleted may bring it back.
	freed map[string]time.Time
}

func (n *Nftables) command(args ...string) *exec.Cmd {
	if n.Namespace != "" {
		args = append([]string{"ip", "netns", "exec", n.Namespace}, args...)
	}
	return exec.Command(args[0], args[1:]...)
}

// inside calls f with the number of the open file of the namespace; 0 is the one that
// the program runs in.
func (n *Nftables) inside(f func(fd int) error) error {
	if n.Namespace == "" {
		return f(0)
	}
	file, err := os.Open("/run/netns/" + n.Namespace)
	if err != nil {
		return err
	}
	defer file.Close()
	return f(int(file.Fd()))
}

// logGroup is the group of the kernel's log that is listened to.
const logGroup = 7411

// Load loads the plans by the scripts of nft.Replacement.
func (n *Nftables) Load(l plan.Loaded, paired bool) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.recallEnded()
	now, err := n.standing()
	if err != nil {
		return err
	}
	o := nft.Options{Group: logGroup, Ends: l.Enforced != nil, Ended: elementsOf(slices.Collect(maps.Keys(n.ended))),
		Paired: paired}
	for _, script := range nft.Replacement(l, o, now) {
		if err := n.script(script); err != nil {
			now, unknown := n.standing()
			if unknown == nil && now.Decides && now.Scaffold { // otherwise Scaffold alone may decide
				err = errors.Join(err, n.script(nft.RemoveScaffold))
			}
			return err
		}
	}
	if l.Enforced == nil && len(n.ended) > 0 { // then everything is carried
		clear(n.ended)
		return n.keepEnded()
	}
	return nil
}

// script lets nft load a script in one transaction.
func (n *Nftables) script(text string) error {
	cmd := n.command("nft", "-f", "-")
	cmd.Stdin = strings.NewReader(text)
	if out, err := cmd.CombinedOutput(); err != nil {
		return refused(out, err)
	}
	return nil
}

// standing reads whether a plan decides, and whether a replacement was left unfinished.
func (n *Nftables) standing() (now nft.Standing, err error) {
	err = n.withTables(func(c *nftables.Conn) error {
		tables, err := c.ListTablesOfFamily(nftables.TableFamilyINet)
		if err != nil {
			return err
		}
		now.Scaffold = slices.ContainsFunc(tables, func(t *nftables.Table) bool { return t.Name == nft.Scaffold })
		chains, err := c.ListChainsOfTableFamily(nftables.TableFamilyINet)
		now.Decides = slices.ContainsFunc(chains, func(x *nftables.Chain) bool {
			return x.Table.Name == nft.Table && x.Hooknum != nil && !nft.OfTrial(x.Name)
		})
		return err
	})
	return now, err
}

// refused returns the first line of what nft says.
func refused(out []byte, err error) error {
	if first, _, _ := strings.Cut(strings.TrimSpace(string(out)), "\n"); first != "" {
		return errors.New("nft: " + first)
	}
	return fmt.Errorf("nft: %w", err)
}

// wide lets a batch to the kernel be large: without it one of a few thousand elements is
// "too long".
const wide = 64 << 20

// dial opens a connection to the kernel's nftables that lasts until it is closed.
func dial(fd int) (*nftables.Conn, error) {
	return nftables.New(nftables.WithNetNSFd(fd), nftables.AsLasting(),
		nftables.WithSockOptions(func(c *netlink.Conn) error {
			return errors.Join(c.SetWriteBuffer(wide), c.SetReadBuffer(wide/8))
		}))
}

var table = &nftables.Table{Name: nft.Table, Family: nftables.TableFamilyINet}

// Move changes elements of sets and maps in one transaction.
func (n *Nftables) Move(from, to plan.Loaded) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.withTables(func(c *nftables.Conn) error {
		come, gone := nft.Moves(from, to)
		for name := range come {
			s := &nftables.Set{Table: table, Name: name, Interval: true, KeyType: keyType(name)}
			if err := replace(c, s, intervals(gone[name]), intervals(come[name])); err != nil {
				return err
			}
		}
		ways, nextWays := nft.Ways(from), nft.Ways(to)
		for name, now := range nextWays {
			s := &nftables.Set{Table: table, Name: name, IsMap: true, KeyType: keyType(name),
				DataType: nftables.TypeVerdict}
			if err := replace(c, s, leading(ways[name], now), leading(now, ways[name])); err != nil {
				return err
			}
		}
		return c.Flush()
	})
}

// perMessage is how many elements go into one message: their attribute's length has 16
// bits, and silently wraps where there are more than some 740.
const perMessage = 400

func replace(c *nftables.Conn, s *nftables.Set, gone, come []nftables.SetElement) error {
	for part := range slices.Chunk(gone, perMessage) {
		if err := c.SetDeleteElements(s, part); err != nil {
			return err
		}
	}
	for part := range slices.Chunk(come, perMessage) {
		if err := c.SetAddElements(s, part); err != nil {
			return err
		}
	}
	return nil
}

// keyType returns the type of addresses by the name of a set or map.
func keyType(name string) nftables.SetDatatype {
	if strings.HasSuffix(name, "6") {
		return nftables.TypeIP6Addr
	}
	return nftables.TypeIPAddr
}

func intervals(spans plan.Addresses) (out []nftables.SetElement) {
	for _, s := range spans {
		out = append(out, nftables.SetElement{Key: s.First.AsSlice()})
		if end := s.Last.Next(); end.IsValid() {
			out = append(out, nftables.SetElement{Key: end.AsSlice(), IntervalEnd: true})
		}
	}
	return out
}

// leading returns the elements of a that lead elsewhere, or nowhere, in b.
func leading(a, b map[netip.Addr]string) (out []nftables.SetElement) {
	for addr, chain := range a {
		if b[addr] != chain {
			out = append(out, nftables.SetElement{Key: addr.AsSlice(),
				VerdictData: &expr.Verdict{Kind: expr.VerdictGoto, Chain: chain}})
		}
	}
	return out
}

// tableName is what Held.Other calls the table itself.
const tableName = "table " + nft.Table

// Read returns what is in the table. That there is none is no error.
func (n *Nftables) Read() (Held, error) {
	out := newHeld()
	before := n.endedNow()
	var said bytes.Buffer
	cmd := n.command("nft", "-t", "-j", "list", "table", "inet", nft.Table)
	cmd.Stderr = &said
	text, err := cmd.Output()
	if err != nil {
		if !strings.Contains(said.String(), "No such file") {
			return out, refused(said.Bytes(), err)
		}
		out.Own = n.own()
		return out, nil
	}
	sets, maps, err := readTable(text, &out)
	if err != nil {
		return out, err
	}
	err = n.withTables(func(c *nftables.Conn) error {
		if t, err := c.ListTableOfFamily(nft.Table, nftables.TableFamilyINet); err != nil {
			return err
		} else if t.Flags != 0 {
			out.Other[tableName] = fmt.Sprintf("flags %d", t.Flags)
		}
		for _, name := range sets {
			elements, err := c.GetSetElements(&nftables.Set{Table: table, Name: name})
			if err != nil {
				return fmt.Errorf("set %s: %w", name, err)
			}
			if six := slices.Index(nft.Ended[:], name); six >= 0 {
				missing, extra, back := n.compareEnded(elements, six == 1, before)
				out.EndedMissing += missing
				out.EndedExtra += extra
				if err := remove(c, endedSet(six), back); err != nil {
					return fmt.Errorf("set %s: %w", name, err)
				}
				continue
			}
			out.addresses(name, elements)
		}
		for _, name := range maps {
			elements, err := c.GetSetElements(&nftables.Set{Table: table, Name: name})
			if err != nil {
				return fmt.Errorf("map %s: %w", name, err)
			}
			out.ways(name, elements)
		}
		return nil
	})
	out.Own = n.own()
	return out, err
}

// own returns the addresses of the machine by which others may reach it.
func (n *Nftables) own() (out []netip.Addr) {
	text, err := n.command("ip", "-j", "addr").Output()
	if err != nil {
		return nil // not every machine has the program: then nothing is known of them
	}
	var links []struct {
		Info []struct {
			Local netip.Addr `json:"local"`
			Scope string     `json:"scope"`
		} `json:"addr_info"`
	}
	if json.Unmarshal(text, &links) != nil {
		return nil
	}
	for _, link := range links {
		for _, a := range link.Info {
			if a.Scope == "global" && a.Local.IsGlobalUnicast() {
				out = append(out, a.Local)
			}
		}
	}
	return out
}

// readTable reads what nft lists without elements, and returns the names of the sets and
// maps. Handles, and what counters count, do not decide.
func readTable(text []byte, out *Held) (sets, maps []string, err error) {
	var list struct {
		Nftables []map[string]map[string]any `json:"nftables"`
	}
	if err := json.Unmarshal(text, &list); err != nil {
		return nil, nil, fmt.Errorf("what nft lists cannot be read: %w", err)
	}
	enforced, trial := map[Line]int64{}, map[Line]int64{}
	for _, object := range list.Nftables {
		for kind, x := range object {
			delete(x, "handle")
			name, _ := x["name"].(string)
			switch kind {
			case "metainfo":
				continue
			case "rule":
				counts := enforced
				if chain, _ := x["chain"].(string); nft.OfTrial(chain) {
					counts = trial
				}
				out.rule(x, counts)
				continue
			case "table":
				delete(x, "flags") // netlink says them, and not every nft
			case "set":
				sets = append(sets, name)
			case "map":
				maps = append(maps, name)
			}
			raw, _ := json.Marshal(x)
			out.Other[kind+" "+name] = string(raw)
		}
	}
	out.Lines, out.Trial = linesOf(enforced), linesOf(trial)
	return sets, maps, nil
}

func linesOf(counts map[Line]int64) (out []Line) {
	for line, n := range counts {
		line.Packets = n
		out = append(out, line)
	}
	return out
}

// rule notes a rule. Rules are told apart by what they say: one that is missing does
// not move the others.
func (h *Held) rule(x map[string]any, counts map[Line]int64) {
	chain, _ := x["chain"].(string)
	comment, _ := x["comment"].(string)
	packets := strip(x)
	if line, ok := lineOf(comment); ok {
		counts[line] += packets
	}
	raw, _ := json.Marshal(x)
	name := "rule " + comment + " in " + chain + " " + string(raw)
	for n := 2; ; n++ {
		if _, twice := h.Rules[name]; !twice {
			break
		}
		name = fmt.Sprintf("rule %s in %s %s again %d", comment, chain, raw, n)
	}
	h.Rules[name] = comment
	h.Order[chain] = append(h.Order[chain], name)
}

// odd notes an element that does more, or less, than name an address.
func (h *Held) odd(name string, e *nftables.SetElement) bool {
	switch {
	case len(e.Key) == 0:
		h.Odd = append(h.Odd, "an element for everything else does not belong into "+name)
	case e.Timeout != 0:
		h.Odd = append(h.Odd, "an element of "+name+" expires")
	default:
		return false
	}
	return true
}

// addresses notes the elements of a set of intervals: each begins where one element
// says, and ends before the next that is marked as an end.
func (h *Held) addresses(name string, elements []nftables.SetElement) {
	slices.SortFunc(elements, func(a, b nftables.SetElement) int {
		if c := bytes.Compare(a.Key, b.Key); c != 0 || a.IntervalEnd == b.IntervalEnd {
			return c
		} else if a.IntervalEnd {
			return -1
		}
		return 1
	})
	spans := plan.Addresses{}
	open := netip.Addr{}
	for i := range elements {
		e := &elements[i]
		if h.odd(name, e) {
			continue
		}
		at, ok := netip.AddrFromSlice(e.Key)
		switch {
		case !ok:
			h.Odd = append(h.Odd, fmt.Sprintf("an element of %s is no address", name))
		case !e.IntervalEnd:
			open = at
		case open.IsValid():
			spans = append(spans, plan.Span{First: open, Last: at.Prev()})
			open = netip.Addr{}
		}
	}
	if open.IsValid() {
		for _, all := range plan.Everywhere {
			if all.First.BitLen() == open.BitLen() {
				spans = append(spans, plan.Span{First: open, Last: all.Last})
			}
		}
	}
	h.Sets[name] = spans
}

// ways notes the elements of a map from addresses to chains.
func (h *Held) ways(name string, elements []nftables.SetElement) {
	out := map[netip.Addr]string{}
	for i := range elements {
		e := &elements[i]
		if h.odd(name, e) {
			continue
		}
		if at, ok := netip.AddrFromSlice(e.Key); ok {
			out[at] = chainOf(e.Val)
		}
	}
	h.Ways[name] = out
}

// chainOf reads the chain that a verdict goes to; blank: it is another verdict.
func chainOf(verdict []byte) (chain string) {
	ad, err := netlink.NewAttributeDecoder(verdict)
	if err != nil {
		return ""
	}
	ad.ByteOrder = binary.BigEndian
	code := int32(0)
	for ad.Next() {
		switch ad.Type() {
		case unix.NFTA_VERDICT_CODE:
			code = int32(ad.Uint32())
		case unix.NFTA_VERDICT_CHAIN:
			chain = ad.String()
		}
	}
	if ad.Err() != nil || code != unix.NFT_GOTO {
		return ""
	}
	return chain
}

// strip takes the counts out of a rule, and returns the packets.
func strip(rule map[string]any) (packets int64) {
	parts, _ := rule["expr"].([]any)
	for _, p := range parts {
		part, _ := p.(map[string]any)
		if c, ok := part["counter"].(map[string]any); ok {
			n, _ := c["packets"].(float64)
			packets += int64(n)
			part["counter"] = nil
		}
	}
	return packets
}

// lineOf reads the comment of a rule.
func lineOf(comment string) (l Line, ok bool) {
	if comment == "uncovered" {
		return Line{Verdict: comment}, true
	}
	_, err := fmt.Sscanf(comment, "line %d %s", &l.Line, &l.Verdict)
	return l, err == nil
}
