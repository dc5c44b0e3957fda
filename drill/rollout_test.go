package drill

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// outpost is a namespace with a real point in it, and a way to the server.
type outpost struct {
	t       *testing.T
	ns, dir string
	server  string
	cmd     *exec.Cmd
}

// newOutpost makes the namespace; here is this end's address.
func newOutpost(t *testing.T) (o *outpost, here string) {
	t.Setenv("PATH", os.Getenv("PATH")+":/usr/sbin:/sbin")
	if os.Geteuid() != 0 {
		t.Skip("NOT TRIED: only root may make network namespaces")
	}
	id := fmt.Sprintf("%x", os.Getpid()&0xffff)
	o = &outpost{t: t, ns: "dr" + id, dir: t.TempDir()}
	run := func(args ...string) {
		out, err := exec.Command(args[0], args[1:]...).CombinedOutput()
		if err != nil {
			t.Skipf("NOT TRIED: the kernel refuses namespaces: %s", out)
		}
	}
	here = fmt.Sprintf("10.98.%d.1", os.Getpid()%250)
	run("ip", "netns", "add", o.ns)
	t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", o.ns).Run() })
	run("ip", "link", "add", "dv"+id, "type", "veth", "peer", "name", "eth0", "netns", o.ns)
	run("ip", "addr", "add", here+"/24", "dev", "dv"+id)
	run("ip", "link", "set", "dv"+id, "up")
	run("ip", "-n", o.ns, "addr", "add", here[:len(here)-1]+"2/24", "dev", "eth0")
	run("ip", "-n", o.ns, "link", "set", "eth0", "up")
	run("ip", "-n", o.ns, "link", "set", "lo", "up")
	return o, here
}

func (o *outpost) start() {
	o.cmd = exec.Command("ip", "netns", "exec", o.ns, program, "point", "--server", o.server, "--token-file",
		filepath.Join(o.dir, "token"), "--state", filepath.Join(o.dir, "state"), "--check", "1s")
	require.NoError(o.t, o.cmd.Start())
}

func (o *outpost) kill() {
	_ = o.cmd.Process.Kill()
	_ = o.cmd.Wait()
}

var (
	ports  = regexp.MustCompile(`dport (\d+)`)
	chains = regexp.MustCompile(`(?s)chain (\w+) \{(.*?)\n\t\}`)
)

// loaded returns the ports of the rules that the kernel has loaded, each once: of those
// that decide, or of those on trial.
func (o *outpost) loaded(onTrial bool) (out []string) {
	text, err := exec.Command("ip", "netns", "exec", o.ns, "nft", "list", "table", "inet", "lucid_orchard").Output()
	if err != nil {
		return nil // nothing is held
	}
	seen := map[string]bool{}
	for _, chain := range chains.FindAllStringSubmatch(string(text), -1) {
		if trial := strings.HasPrefix(chain[1], "o_"); trial != onTrial || strings.HasPrefix(chain[1], "a") ||
			strings.HasPrefix(chain[1], "o_a") {
			continue
		}
		for _, m := range ports.FindAllStringSubmatch(chain[2], -1) {
			if !seen[m[1]] {
				seen[m[1]] = true
				out = append(out, m[1])
			}
		}
	}
	return out
}

// version is a policy all of whose rules speak of a port of its own.
func version(n int) string {
	text := "group entry = tier is entry\ngroup store = tier is store\nlayer allowances\n"
	for i := range 12 {
		text += fmt.Sprintf("permit 10.7.%d.0/24 -> store on tcp/%d\n", i, 2000+n)
	}
	return text
}

// A release is rolled out, again and again, while the point, the server or the database
// is killed at any moment: the kernel never holds a mixture of two releases, no
// acknowledged release is lost, and the point ends where it should.
func TestKillsOfARollOut(t *testing.T) {
	n := rounds(t, 5)
	o, here := newOutpost(t)
	s := newSite(t, folder(t), "--listen", here+":7977", "--trust-network")
	s.may = whileKilled
	s.start()
	o.server = s.address()
	var token struct{ Secret, Token string }
	require.NoError(t, json.Unmarshal(s.ask("POST", "/api/v1/tokens", "",
		[]byte(`{"name":"list","source":"list"}`)).body, &token))
	post := exec.Command("curl", "-sf", "-H", "Authorization: Bearer "+token.Secret, "-H", "Content-Type: text/csv",
		"--data-binary",
		"id,addresses,tag:tier\nentry,10.1.0.1,entry\nstore,10.1.0.2,store\n", s.address()+
			"/api/v1/inventory/workloads")
	out, err := post.CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.NoError(t, json.Unmarshal(s.ask("POST", "/api/v1/points", "",
		[]byte(`{"name":"p","kind":"gate","guards":"tier is store"}`)).body, &token))
	require.NoError(t, os.WriteFile(filepath.Join(o.dir, "token"), []byte(token.Token), 0o600))
	o.start()
	defer o.kill()

	// Whatever happens, what the kernel holds is of one release.
	mixtures, looks := 0, 0
	stop := make(chan struct{})
	var watching sync.WaitGroup
	watching.Go(func() {
		for {
			select {
			case <-stop:
				return
			case <-time.After(5 * time.Millisecond):
			}
			looks++
			for _, trial := range []bool{false, true} {
				if loaded := o.loaded(trial); len(loaded) > 1 {
					mixtures++
					t.Errorf("the kernel has loaded rules of several releases: %v", loaded)
				}
			}
		}
	})
	acknowledged, killed := 0, map[string]int{}
	for round := range n {
		text := version(round)
		saved, _ := json.Marshal(map[string]string{"text": text})
		var revision int
		require.Eventually(t, func() bool {
			a := s.ask("PUT", "/api/v1/policy/text", "", saved)
			var made struct{ Revision int }
			if a.status != 200 && a.status != 201 || json.Unmarshal(a.body, &made) != nil {
				return false
			}
			revision = made.Revision
			return true
		}, time.Minute, 50*time.Millisecond)
		victim := []string{"point", "server", "database"}[rand.IntN(3)]
		killed[victim]++
		var group sync.WaitGroup
		group.Go(func() { // at any moment
			time.Sleep(time.Duration(rand.IntN(250)) * time.Millisecond)
			switch victim {
			case "point":
				o.kill()
				o.start()
			case "server":
				s.kill()
				s.start()
			case "database":
				s.killPostmaster()
				time.Sleep(50 * time.Millisecond)
				s.kill()
				s.start()
			}
		})
		// It is asked for until somebody says that it is there.
		body, _ := json.Marshal(map[string]any{"revision": revision, "title": fmt.Sprint("round ", round)})
		no := 0
		require.Eventually(t, func() bool {
			a := s.ask("POST", "/api/v1/releases", "", body)
			var made struct{ No int }
			if a.status == 201 && json.Unmarshal(a.body, &made) == nil {
				no = made.No
			}
			return a.status == 201 || a.status == 409 // 409: it came through, and the answer did not
		}, time.Minute, 20*time.Millisecond)
		group.Wait()
		acknowledged++
		type state struct {
			Releases []struct {
				No    int
				Title string
			}
			Points []struct {
				State string
				Held  *struct {
					Enforces, Observes int
				}
			}
		}
		var last state
		enforced := false
		require.Eventually(t, func() bool {
			s.get("/api/v1/rollout", &last)
			if len(last.Releases) == 0 || last.Releases[0].Title != fmt.Sprint("round ", round) {
				return false
			}
			no = last.Releases[0].No
			p := last.Points[0]
			if p.State != "holds" || p.Held == nil || p.Held.Enforces != no && p.Held.Observes != no {
				return false
			}
			if !enforced {
				enforced = s.ask("POST", "/api/v1/rollout/orders", "", []byte(fmt.Sprintf(
					`{"do":"enforce","points":["p"],"release":%d,"anyway":true}`, no))).status == 200
				return false
			}
			return p.Held.Enforces == no
		}, time.Minute, 20*time.Millisecond, "round %d, %s: %v", round, victim, &last)
		require.Equal(t, []string{fmt.Sprint(2000 + round)}, o.loaded(false), "round %d, %s", round, victim)
		require.Len(t, last.Releases, round+1, "no release is lost, none doubled")
	}
	close(stop)
	watching.Wait()
	t.Logf("%-34s %3d rounds  acknowledged %5d  lost 0  killed %v  mixtures %d in %d looks", "kills of a roll-out", n,
		acknowledged,
		killed, mixtures, looks)
	require.Zero(t, mixtures)
	require.Positive(t, looks)
}
