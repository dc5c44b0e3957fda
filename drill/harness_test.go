// Package drill kills, fills up and confuses the real program while it is worked
// with, round after round, and counts what was acknowledged, lost and doubled.
// A few rounds run with the tests; ORCHARD_DRILL says how many.
package drill

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// program is the built binary, made once for all drills.
var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "orchard-drill-")
	if err == nil {
		program = filepath.Join(dir, "orchard")
		var out []byte
		if out, err = exec.Command("go", "build", "-o", program, "../cmd/orchard").CombinedOutput(); err != nil {
			err = fmt.Errorf("%w: %s", err, out)
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// rounds is how many rounds a drill has: few among the tests.
func rounds(t *testing.T, few int) int {
	text := os.Getenv("ORCHARD_DRILL")
	if text == "" {
		return few
	}
	n, err := strconv.Atoi(text)
	require.NoError(t, err)
	return n
}

// folder is one that the user postgres can reach.
func folder(t *testing.T) string {
	dir, err := os.MkdirTemp("", "orchard-drill-data-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// site is a server under drill.
type site struct {
	t    *testing.T
	dir  string // of its data
	log  string
	args []string
	env  []string

	mu    sync.Mutex
	cmd   *exec.Cmd
	base  string
	ipfix string

	may func(kind string) bool // whether a 5xx of this kind is documented for what is done to it
}

// Kinds of the answers with 5xx that docs/api.md documents, and when they may come.
var (
	whileKilled = documented("database-away", "unknown-outcome")
	whileFull   = documented("disk-full", "database-away", "unknown-outcome")
)

func documented(kinds ...string) func(kind string) bool {
	return func(kind string) bool { return slices.Contains(kinds, kind) }
}

// judge fails the drill for an answer with 5xx that is not documented for it.
func (s *site) judge(method, path string, a answer) {
	if a.status < 500 {
		return
	}
	var problem struct{ Type string }
	_ = json.Unmarshal(a.body, &problem)
	if kind := strings.TrimPrefix(problem.Type, "/problems/"); s.may == nil || !s.may(kind) {
		s.t.Errorf("%s %s was answered %d %s", method, path, a.status, a.body)
	}
}

func newSite(t *testing.T, dir string, args ...string) *site {
	s := &site{t: t, dir: dir, log: filepath.Join(folder(t), "log"), args: args}
	t.Cleanup(func() {
		s.end()
		if t.Failed() {
			text, _ := os.ReadFile(s.log)
			t.Logf("the server said:\n%s", text[max(0, len(text)-6000):])
		}
	})
	return s
}

// try starts the server and waits until it answers.
func (s *site) try() error {
	cmd := exec.Command(program,
		append([]string{"serve", "--allow-receiver", "127.0.0.1", "--listen", "127.0.0.1:0", "--data",
			filepath.Join(s.dir, "data"), "--live=false",
			"--hold", "300ms",
			"--ipfix", "off", "--ipfix-tcp", "127.0.0.1:0", "--netflow", "off", "--sflow", "off"}, s.args...)...)
	cmd.Env = append(os.Environ(), s.env...)
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	log, err := os.OpenFile(s.log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	cmd.Stderr = log
	if err := cmd.Start(); err != nil {
		return err
	}
	lines := bufio.NewReader(out)
	first, err := lines.ReadString('\n')
	second, err2 := lines.ReadString('\n')
	if err != nil || err2 != nil {
		_ = cmd.Wait()
		text, _ := os.ReadFile(s.log)
		return fmt.Errorf("it does not start: %s", text[max(0, len(text)-500):])
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.cmd, s.base, s.ipfix = cmd, regexp.MustCompile(`http://\S+`).FindString(first),
		regexp.MustCompile(`tcp (\S+)`).FindStringSubmatch(second)[1]
	return nil
}

func (s *site) start() { require.NoError(s.t, s.try()) }

func (s *site) kill() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.cmd != nil {
		_ = s.cmd.Process.Kill()
		_ = s.cmd.Wait()
		s.cmd = nil
	}
}

// end stops the server in order.
func (s *site) end() {
	s.mu.Lock()
	cmd := s.cmd
	s.cmd = nil
	s.mu.Unlock()
	if cmd == nil {
		return
	}
	_ = cmd.Process.Signal(syscall.SIGTERM)
	done := make(chan struct{})
	go func() { _ = cmd.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(60 * time.Second):
		_ = cmd.Process.Kill()
		<-done
		s.t.Error("the server did not stop within a minute")
	}
}

// killPostmaster kills the first process of the database, and none of its others.
func (s *site) killPostmaster() {
	raw, err := os.ReadFile(filepath.Join(s.dir, "data", "pg", "postmaster.pid"))
	if err != nil {
		return // it is just starting
	}
	line, _, _ := strings.Cut(string(raw), "\n")
	if pid, err := strconv.Atoi(line); err == nil {
		_ = syscall.Kill(pid, syscall.SIGKILL)
	}
}

func (s *site) address() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.base
}

type answer struct {
	status int
	body   []byte
}

// ask sends one request; status 0 is that no answer came.
func (s *site) ask(method, path, key string, body []byte) answer {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	return s.askWithin(ctx, method, path, key, body)
}

// askWithin is ask by somebody who leaves when the context ends.
func (s *site) askWithin(ctx context.Context, method, path, key string, body []byte) answer {
	req, err := http.NewRequestWithContext(ctx, method, s.address()+path, bytes.NewReader(body))
	if err != nil {
		return answer{}
	}
	req.Header.Set("Content-Type", "application/json")
	if strings.HasPrefix(path, "/api/v1/imports") {
		req.Header.Set("Content-Type", "text/csv")
	}
	if method == "PUT" {
		req.Header.Set("If-Match", "*")
	}
	if key != "" {
		req.Header.Set("Idempotency-Key", key)
	}
	r, err := http.DefaultClient.Do(req)
	if err != nil {
		return answer{}
	}
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	if err != nil {
		return answer{}
	}
	out := answer{r.StatusCode, text}
	s.judge(method, path, out)
	return out
}

// get reads into out until it succeeds.
func (s *site) get(path string, out any) {
	s.t.Helper()
	var last answer
	require.Eventually(s.t, func() bool {
		last = s.ask("GET", path, "", nil)
		return last.status == 200
	}, 90*time.Second, 50*time.Millisecond, "%s", path)
	if text, ok := out.(*string); ok {
		*text = string(last.body)
		return
	}
	require.NoError(s.t, json.Unmarshal(last.body, out), string(last.body))
}

func key() string { return rand.Text() }

// tally is what became of what was sent.
type tally struct {
	acknowledged, lost int
	doubled, falsely   int // falsely: said to have failed, and there
}

func (c *tally) report(t *testing.T, name string, rounds int) {
	t.Logf("%-34s %3d rounds  acknowledged %5d  lost %d  doubled %d  said to have failed and stored %d", name, rounds,
		c.acknowledged, c.lost, c.doubled, c.falsely)
	require.Positive(t, c.acknowledged)
	require.Zero(t, c.lost)
	require.Zero(t, c.doubled)
	require.Zero(t, c.falsely)
}

// edited counts what became of edits: the groups that they added, with whether that
// was acknowledged.
func (s *site) edited(edits map[string]bool) *tally {
	s.t.Helper()
	var text string
	s.get("/api/v1/policy.orchard", &text)
	c := &tally{}
	for name, acknowledged := range edits {
		there := strings.Count(text, "group "+name+" ")
		if acknowledged {
			c.acknowledged++
			c.lost += max(0, 1-there)
		} else {
			c.falsely += min(1, there)
		}
		c.doubled += max(0, there-1)
	}
	return c
}

// editing starts workers that edit until the context ends. The map has what became of each
// edit once the group has ended.
func (s *site) editing(ctx context.Context, group *sync.WaitGroup, workers ...string) map[string]bool {
	var mu sync.Mutex
	edits := map[string]bool{}
	for _, w := range workers {
		group.Go(func() {
			s.edits(ctx, w, func(name string, acknowledged bool) {
				mu.Lock()
				defer mu.Unlock()
				edits[name] = acknowledged
			})
		})
	}
	return edits
}

// edits adds groups with names of their own until the context ends. Each is sent
// again with its key until the server has answered.
func (s *site) edits(ctx context.Context, worker string, note func(name string, acknowledged bool)) {
	for n := 0; ctx.Err() == nil; n++ {
		name := fmt.Sprintf("g-%s-%d", worker, n)
		k := key()
		for {
			body, _ := json.Marshal(map[string]any{"revision": 0, "op": "add", "text": "group " + name +
				" = env is live"})
			a := s.ask("POST", "/api/v1/policy/edits", k, body)
			if a.status == 201 || a.status == 409 && bytes.Contains(a.body, []byte("already-stored")) {
				note(name, true)
				break
			}
			if a.status == 422 || a.status == 404 {
				note(name, false)
				s.t.Errorf("an edit was answered %d %s", a.status, a.body)
				break
			}
			// 409: somebody was faster; 503, 507 and no answer: again, with the same key.
			select {
			case <-time.After(30 * time.Millisecond):
			case <-ctx.Done():
				if a.status == 0 || a.status == 503 {
					return // nobody knows
				}
				note(name, false)
				return
			}
		}
	}
}

// flows returns a file of conversations whose clients nobody else has.
func flows(worker, n, rows int) []byte {
	var b bytes.Buffer
	b.WriteString("start,src,dst,proto,dport\n")
	for i := range rows {
		fmt.Fprintf(&b, "2026-11-20T10:00:00Z,10.%d.%d.%d,10.250.0.1,tcp,443\n", 10+worker, n, i)
	}
	return b.Bytes()
}

// imported counts the connections of each client that are stored.
func (s *site) imported() map[string]int {
	var text string
	s.get("/api/v1/conversations.csv", &text)
	rows, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	require.NoError(s.t, err)
	out := map[string]int{}
	for _, r := range rows[1:] {
		n, err := strconv.Atoi(r[7])
		require.NoError(s.t, err)
		out[r[1]] += n
	}
	return out
}
