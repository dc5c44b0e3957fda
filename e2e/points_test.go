package e2e

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// ask sends JSON to the server and reads the answer.
func ask(t *testing.T, method, url string, body, into any) int {
	t.Helper()
	raw, err := json.Marshal(body)
	require.NoError(t, err)
	r, err := http.NewRequest(method, url, bytes.NewReader(raw))
	require.NoError(t, err)
	r.Header.Set("Content-Type", "application/json")
	if method == http.MethodPut {
		r.Header.Set("If-Match", "*")
	}
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer answer.Body.Close()
	if into != nil {
		require.NoError(t, json.NewDecoder(answer.Body).Decode(into))
	}
	return answer.StatusCode
}

// held is what the only point holds.
type held struct {
	State string `json:"state"`
	Held  *struct {
		Enforces, Observes int
		Words              string
		Lines              []struct {
			Verdict string
			Packets int
		}
	} `json:"held"`
}

const openPolicy = `group entry = tier is entry
group store = tier is store
layer allowances
permit entry -> store on tcp/5432
permit store -> outside on any
layer closing
reject any -> store on any
`

// chatter serves one connection and sends all the time; it prints how much it has
// heard, once a second.
const chatter = `
import socket, time, sys
l = socket.create_server(("10.20.8.20", 22))
print("listens")
c, _ = l.accept()
c.settimeout(0.05)
heard, at = 0, time.time()
for i in range(1200):
    try:
        c.send(b"still here\n")
        heard += len(c.recv(4096))
    except socket.timeout:
        pass
    except OSError:
        break
    if time.time() - at > 1:
        print(heard)
        at = time.time()
print("over")
`

// A real point on a real machine: what it observes passes and is counted, what it
// enforces is dropped; a tag moves a machine without a release; a rule that somebody
// deletes is missed and put back; killed, what it held goes on; and a release that shuts
// the server out is undone by itself.
func TestARealPointHoldsReleases(t *testing.T) {
	t.Setenv("PATH", os.Getenv("PATH")+":/usr/sbin:/sbin")
	n := makeNetwork(t)
	base := start(t, "--listen", n.here+":0", "--trust-network")
	var token struct{ Secret, Token string }
	require.Equal(t, 201, ask(t, "POST", base+"/api/v1/tokens", map[string]any{"name": "list", "source": "list"},
		&token))
	r, err := http.NewRequest("POST", base+"/api/v1/inventory/workloads", strings.NewReader("id,addresses,tag:tier\n"+
		"entry,10.20.3.10,entry\nstore,10.20.8.20 10.99.7.2,store\n"))
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer "+token.Secret)
	r.Header.Set("Content-Type", "text/csv")
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	answer.Body.Close()
	require.Equal(t, 200, answer.StatusCode)
	policy := func(text string) (revision int) {
		var out struct{ Revision int }
		require.Contains(t, []int{200, 201}, ask(t, "PUT", base+"/api/v1/policy/text", map[string]any{"text": text},
			&out))
		return out.Revision
	}
	release := func(revision int) {
		require.Equal(t, 201, ask(t, "POST", base+"/api/v1/releases", map[string]any{"revision": revision,
			"title": "next"}, nil))
	}
	order := func(do string, release int) {
		require.Equal(t, 200, ask(t, "POST", base+"/api/v1/rollout/orders",
			map[string]any{"do": do, "points": []string{"store"},
				"release": release, "anyway": true, "without": []string{"*"}}, nil))
	}
	until := func(what string, f func(h held) bool) {
		t.Helper()
		var h held
		require.Eventually(t, func() bool {
			var out struct{ Points []held }
			ask(t, "GET", base+"/api/v1/rollout", nil, &out)
			h = out.Points[0]
			return h.Held != nil && f(h)
		}, 30*time.Second, 50*time.Millisecond, what)
	}
	runs := func(enforces, observes int) func(held) bool {
		return func(h held) bool {
			return h.State == "holds" && h.Held.Enforces == enforces && h.Held.Observes == observes
		}
	}
	// Nobody listens: what arrives is refused at once, what is dropped is waited for in vain.
	passes := func(port int) bool {
		err := inside(n.client, nil, "timeout", "1", "bash", "-c", fmt.Sprintf("</dev/tcp/10.20.8.20/%d", port)).Run()
		var exit *exec.ExitError
		require.ErrorAs(t, err, &exit)
		return exit.ExitCode() != 124
	}

	first := policy(openPolicy)
	require.Equal(t, 201, ask(t, "POST", base+"/api/v1/points", map[string]any{"name": "store", "kind": "host",
		"guards": "tier is store"}, &token))
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "token"), []byte(token.Token+"\n"), 0o600))
	begin := func() *exec.Cmd {
		cmd := inside(n.server, nil, program, "point", "--server", base, "--token-file", filepath.Join(dir, "token"),
			"--state", filepath.Join(dir, "state"), "--way-back", "3s", "--check", "1s")
		require.NoError(t, cmd.Start())
		return cmd
	}
	agent := begin()
	t.Cleanup(func() { end(agent) })

	release(first)
	until("it observes", runs(0, 1))
	require.True(t, passes(22), "what is observed is carried")
	until("and counted", func(h held) bool {
		for _, l := range h.Held.Lines {
			if l.Verdict == "reject" && l.Packets > 0 {
				return true
			}
		}
		return false
	})
	// A conversation that runs on, of which both ends speak.
	talk := inside(n.server, nil, "python3", "-u", "-c", chatter)
	said, err := talk.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, talk.Start())
	t.Cleanup(func() { end(talk) })
	heard := bufio.NewScanner(said)
	require.True(t, heard.Scan())
	require.NoError(t, inside(n.client, nil, "bash", "-c",
		"exec 3<>/dev/tcp/10.20.8.20/22; sleep 0.3; for i in $(seq 600); "+
			"do echo $i >&3; sleep 0.05; done").Start())
	require.True(t, heard.Scan(), "it runs")
	order("enforce", 1)
	until("it enforces", runs(1, 0))
	require.Eventually(t, func() bool {
		var out []struct{ What, Words string }
		ask(t, "GET", base+"/api/v1/points/store/history", nil, &out)
		return slices.ContainsFunc(out, func(e struct{ What, Words string }) bool {
			return e.What == "ended" && strings.HasPrefix(e.Words, "1 running conversation ended")
		})
	}, 20*time.Second, 50*time.Millisecond, "what runs and is rejected now is ended")
	before := ""
	for heard.Scan() {
		if heard.Text() == before || heard.Text() == "over" {
			break // nothing more is heard of the client
		}
		before = heard.Text()
	}
	require.True(t, passes(5432))
	require.False(t, passes(22))
	require.Eventually(t, func() bool {
		var out struct {
			Records []struct{ Outcome, Exporter string }
		}
		ask(t, "GET", base+"/api/v1/records?client=10.20.3.10&server=10.20.8.20&service=tcp/22", nil, &out)
		return slices.ContainsFunc(out.Records, func(r struct{ Outcome, Exporter string }) bool {
			return r.Outcome == "dropped" && strings.Contains(r.Exporter, "point store")
		})
	}, 40*time.Second, 200*time.Millisecond, "what it dropped is among the records")

	end(talk)
	handles := func() string {
		out, err := inside(n.server, nil, "bash", "-c",
			"nft -a list table inet lucid_orchard | grep -o 'line.*handle.*'").Output()
		require.NoError(t, err)
		return string(out)
	}
	rules := handles()
	require.Equal(t, 200, ask(t, "POST", base+"/api/v1/tags", map[string]any{"key": "tier", "value": "bus",
		"workloads": []string{"entry"}}, nil))
	require.Eventually(t, func() bool { return !passes(5432) }, 20*time.Second, 10*time.Millisecond, "a tag moves it")
	require.Equal(t, rules, handles(), "and touches no rule")
	require.Equal(t, 200, ask(t, "POST", base+"/api/v1/policy/undo", map[string]any{}, nil))
	require.Eventually(t, func() bool { return passes(5432) }, 20*time.Second, 10*time.Millisecond)

	table, err := inside(n.server, nil, "nft", "-a", "list", "table", "inet", "lucid_orchard").CombinedOutput()
	require.NoError(t, err, "%s", table)
	rule := regexp.MustCompile(`chain (s_\S+)[^}]*?comment "line 7 reject" # handle (\d+)`).FindStringSubmatch(
		string(table))
	require.NotNil(t, rule, "%s", table)
	require.NoError(t, inside(n.server, nil, "nft", "delete", "rule", "inet", "lucid_orchard", rule[1], "handle",
		rule[2]).Run())
	until("the rule is missed", func(h held) bool {
		return h.State == "drifted" && h.Held.Words == "a rule of line 7 is missing"
	})
	require.True(t, passes(22))
	require.Equal(t, 204, ask(t, "POST", base+"/api/v1/points/store/again", nil, nil))
	until("and put back", runs(1, 0))
	require.False(t, passes(22))

	require.NoError(t, agent.Process.Kill())
	_ = agent.Wait()
	require.False(t, passes(22), "what it held goes on")
	require.True(t, passes(5432))
	agent = begin()
	until("it is back", runs(1, 0))

	second := policy(strings.Replace(openPolicy, "permit store -> outside", "reject store -> outside", 1))
	release(second)
	until("it observes the second", runs(1, 2))
	require.False(t, passes(22), "the first decides while the second is on trial")
	require.True(t, passes(5432))
	var problem struct{ Detail string }
	require.Equal(t, 409, ask(t, "POST", base+"/api/v1/rollout/orders",
		map[string]any{"do": "enforce", "points": []string{"store"},
			"release": 2}, &problem))
	require.Contains(t, problem.Detail,
		"the release blocks access to the server: line 5 rejects 10.99.7.2 → 10.99.7.1 on tcp/")
	require.Contains(t, problem.Detail, "by which store asks it")
	// Somebody does not heed that.
	require.Equal(t, 200, ask(t, "POST", base+"/api/v1/rollout/orders",
		map[string]any{"do": "enforce", "points": []string{"store"},
			"release": 2, "anyway": true, "without": []string{"*"}}, nil))
	until("it finds the way back by itself", func(h held) bool {
		return h.State == "went back" && strings.Contains(h.Held.Words, "could not be reached") &&
			h.Held.Enforces == 1 && h.Held.Observes == 2
	})
	require.False(t, passes(22), "and nothing opened on the way")
}
