package point

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os/exec"
	"slices"
	"strings"
	"sync"
)

// Nftables is the kernel of the machine, or of the network namespace, that the
// program runs in. It touches the table inet lucid_orchard and no other.
type Nftables struct {
	Command []string // the program and its first arguments; none: nft
}

func (n Nftables) command(args ...string) *exec.Cmd {
	all := append(slices.Clone(n.Command), args...)
	if len(n.Command) == 0 {
		all = append([]string{"nft"}, args...)
	}
	return exec.Command(all[0], all[1:]...)
}

// Load runs the script in one transaction.
func (n Nftables) Load(script string) error {
	cmd := n.command("-f", "-")
	cmd.Stdin = strings.NewReader(script)
	if out, err := cmd.CombinedOutput(); err != nil {
		return refused(out, err)
	}
	return nil
}

// refused gives the first line of what nft says.
func refused(out []byte, err error) error {
	if first, _, _ := strings.Cut(strings.TrimSpace(string(out)), "\n"); first != "" {
		return errors.New("nft: " + first)
	}
	return fmt.Errorf("nft: %w", err)
}

// Read lists the table. That there is none is no error.
func (n Nftables) Read() (Held, error) {
	var said bytes.Buffer
	cmd := n.command("-j", "list", "table", "inet", "lucid_orchard")
	cmd.Stderr = &said
	out, err := cmd.Output()
	if err != nil {
		if strings.Contains(said.String(), "No such file") {
			return Held{Parts: map[string]string{}}, nil
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
	out := Held{Parts: map[string]string{}}
	counts := map[Line]int64{}
	order := map[string]int{} // rules of a chain
	for _, object := range list.Nftables {
		for kind, x := range object {
			delete(x, "handle")
			switch kind {
			case "metainfo", "table":
				continue
			case "rule":
				chain, _ := x["chain"].(string)
				comment, _ := x["comment"].(string)
				packets := strip(x)
				if line, ok := lineOf(comment); ok {
					counts[line] += packets
				}
				order[chain]++
				raw, _ := json.Marshal(x)
				// Rules are told apart by what they say: one that is missing does not move the others.
				name := "rule " + comment + " in " + chain + " " + string(raw)
				for n := 2; out.Parts[name] != ""; n++ {
					name = fmt.Sprintf("rule %s in %s %s again %d", comment, chain, raw, n)
				}
				out.Parts[name] = comment
			default:
				name, _ := x["name"].(string)
				raw, _ := json.Marshal(x)
				out.Parts[kind+" "+name] = string(raw)
			}
		}
	}
	for line, n := range counts {
		line.Packets = n
		out.Lines = append(out.Lines, line)
	}
	return out, nil
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

// Memory is a stand-in's kernel: it remembers what it was told, and nothing else.
type Memory struct {
	mu   sync.Mutex
	held map[string]string
}

// Load remembers the script.
func (m *Memory) Load(script string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.held = map[string]string{}
	chain := ""
	for line := range strings.Lines(script) {
		line = strings.TrimSpace(line)
		if name, ok := strings.CutPrefix(line, "chain "); ok {
			chain = strings.TrimSuffix(name, " {")
		}
		if _, comment, ok := strings.Cut(line, ` comment "`); ok && chain != "" {
			m.held["rule "+strings.TrimSuffix(comment, `"`)+" in "+chain+" "+line] = strings.TrimSuffix(comment, `"`)
		}
	}
	return nil
}

// Read gives what was remembered.
func (m *Memory) Read() (Held, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	out := Held{Parts: map[string]string{}}
	for k, v := range m.held {
		out.Parts[k] = v
	}
	return out, nil
}

// Lose forgets one rule, as if somebody had deleted it by hand, and says which; blank:
// there is none.
func (m *Memory) Lose() string {
	m.mu.Lock()
	defer m.mu.Unlock()
	lost := ""
	for k, v := range m.held {
		if strings.HasPrefix(v, "line ") && (lost == "" || k < lost) {
			lost = k
		}
	}
	delete(m.held, lost)
	return lost
}
