package point

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"

	"lucidorchard/core/plan"
	"lucidorchard/core/plan/nft"
)

// Nftables is the kernel of the machine that the program runs on. It touches the
// table inet lucid_orchard and no other. Whole plans are loaded by nft, as a script in
// one transaction; addresses come and go over netlink, in one as well.
type Nftables struct {
	Namespace string // name of a network namespace; blank: the one that the program runs in

	mu    sync.Mutex
	ended []ended // conversations that were ended, and must not begin again from their middle
}

func (n *Nftables) command(args ...string) *exec.Cmd {
	if n.Namespace != "" {
		args = append([]string{"ip", "netns", "exec", n.Namespace, "nft"}, args...)
	} else {
		args = append([]string{"nft"}, args...)
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

// Hold loads the plan in one transaction.
func (n *Nftables) Hold(p *plan.Plan, observe bool) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	var script strings.Builder
	if p == nil {
		fmt.Fprintf(&script, "table inet %[1]s\ndelete table inet %[1]s\n", nft.Table)
	} else if err := nft.Write(&script, p, nft.Options{Observe: observe, Group: logGroup, Ends: true}); err != nil {
		return err
	}
	cmd := n.command("-f", "-")
	cmd.Stdin = strings.NewReader(script.String())
	if out, err := cmd.CombinedOutput(); err != nil {
		return refused(out, err)
	}
	n.ended = nil
	return nil
}

// refused gives the first line of what nft says.
func refused(out []byte, err error) error {
	if first, _, _ := strings.Cut(strings.TrimSpace(string(out)), "\n"); first != "" {
		return errors.New("nft: " + first)
	}
	return fmt.Errorf("nft: %w", err)
}

// Move changes elements of sets and maps in one transaction.
func (n *Nftables) Move(from, to *plan.Plan) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.inside(func(fd int) error {
		c, err := nftables.New(nftables.WithNetNSFd(fd))
		if err != nil {
			return err
		}
		table := &nftables.Table{Name: nft.Table, Family: nftables.TableFamilyINet}
		come, gone := nft.Moves(from, to)
		for name := range come {
			s := &nftables.Set{Table: table, Name: name, Interval: true, KeyType: keyType(name)}
			if err := replace(c, s, intervals(gone[name]), intervals(come[name])); err != nil {
				return err
			}
		}
		ways, nextWays := nft.Ways(from), nft.Ways(to)
		for name, now := range nextWays {
			s := &nftables.Set{Table: table, Name: name, IsMap: true, KeyType: keyType(name), DataType: nftables.TypeVerdict}
			if err := replace(c, s, leading(ways[name], now), leading(now, ways[name])); err != nil {
				return err
			}
		}
		return c.Flush()
	})
}

func replace(c *nftables.Conn, s *nftables.Set, gone, come []nftables.SetElement) error {
	if len(gone) > 0 {
		if err := c.SetDeleteElements(s, gone); err != nil {
			return err
		}
	}
	if len(come) > 0 {
		return c.SetAddElements(s, come)
	}
	return nil
}

// keyType gives the type of addresses by the name of a set or map.
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

// leading gives the elements of a that lead elsewhere, or nowhere, in b.
func leading(a, b map[netip.Addr]string) (out []nftables.SetElement) {
	for addr, chain := range a {
		if b[addr] != chain {
			out = append(out, nftables.SetElement{Key: addr.AsSlice(),
				VerdictData: &expr.Verdict{Kind: expr.VerdictGoto, Chain: chain}})
		}
	}
	return out
}

// Read lists the table. That there is none is no error.
func (n *Nftables) Read() (Held, error) {
	var said bytes.Buffer
	cmd := n.command("-j", "list", "table", "inet", nft.Table)
	cmd.Stderr = &said
	out, err := cmd.Output()
	if err != nil {
		if strings.Contains(said.String(), "No such file") {
			return newHeld(), nil
		}
		return Held{}, refused(said.Bytes(), err)
	}
	return readTable(out)
}

// readTable reads what nft -j prints: handles, and what counters count, are not
// part of what is held.
func readTable(text []byte) (Held, error) {
	var list struct {
		Nftables []map[string]map[string]any `json:"nftables"`
	}
	if err := json.Unmarshal(text, &list); err != nil {
		return Held{}, fmt.Errorf("what nft lists cannot be read: %w", err)
	}
	out := newHeld()
	counts := map[Line]int64{}
	for _, object := range list.Nftables {
		for kind, x := range object {
			delete(x, "handle")
			name, _ := x["name"].(string)
			switch kind {
			case "metainfo", "table":
			case "rule":
				out.rule(x, counts)
			case "set", "map":
				elements, _ := x["elem"].([]any)
				delete(x, "elem")
				if name != nft.Ended[0] && name != nft.Ended[1] {
					if err := out.elements(kind, name, elements); err != nil {
						return out, err
					}
				}
				fallthrough
			default:
				raw, _ := json.Marshal(x)
				out.Other[kind+" "+name] = string(raw)
			}
		}
	}
	for line, n := range counts {
		line.Packets = n
		out.Lines = append(out.Lines, line)
	}
	return out, nil
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

// elements notes what is in a set or a map.
func (h *Held) elements(kind, name string, list []any) error {
	if kind == "map" {
		h.Ways[name] = map[netip.Addr]string{}
	} else {
		h.Sets[name] = plan.Addresses{}
	}
	for _, e := range list {
		chain := ""
		if pair, ok := e.([]any); ok && len(pair) == 2 && kind == "map" {
			e = pair[0]
			verdict, _ := pair[1].(map[string]any)
			to, _ := verdict["goto"].(map[string]any)
			chain, _ = to["target"].(string)
		}
		s, err := spanOf(e)
		if err != nil {
			return fmt.Errorf("what nft lists in %s cannot be read: %w", name, err)
		}
		if kind == "map" {
			h.Ways[name][s.First] = chain
		} else {
			h.Sets[name] = append(h.Sets[name], s)
		}
	}
	slices.SortFunc(h.Sets[name], func(a, b plan.Span) int { return a.First.Compare(b.First) })
	return nil
}

// spanOf reads an element: an address, a prefix or a range.
func spanOf(e any) (s plan.Span, err error) {
	text, _ := e.(string)
	if x, ok := e.(map[string]any); ok {
		if p, ok := x["prefix"].(map[string]any); ok {
			text = fmt.Sprintf("%v/%v", p["addr"], p["len"])
		}
		if r, ok := x["range"].([]any); ok && len(r) == 2 {
			text = fmt.Sprintf("%v-%v", r[0], r[1])
		}
	}
	return s, s.UnmarshalText([]byte(text))
}

// strip takes the counts out of a rule, and gives the packets.
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
