package drill

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// idle opens connections that send the beginning of a request and then nothing.
func (s *site) idle(n int) (hangUp func()) {
	var all []net.Conn
	for i := range n {
		conn, err := net.Dial("tcp", strings.TrimPrefix(s.address(), "http://"))
		if err != nil {
			continue
		}
		path := []string{"/api/v1/tags", "/api/v1/imports/workloads", "/api/v1/imports/flows", "/api/v1/ask"}[i%4]
		_, _ = fmt.Fprintf(conn, "POST %s HTTP/1.1\r\nHost: localhost\r\nContent-Type: application/json\r\n"+
			"Content-Length: 90\r\n\r\n{", path)
		all = append(all, conn)
	}
	return func() {
		for _, conn := range all {
			conn.Close()
		}
	}
}

// diamonds is a policy of levels of groups, each a member of both of the level before.
func diamonds(levels int) string {
	var b strings.Builder
	b.WriteString("group a0 = env is live\ngroup b0 = env is trial\n")
	for i := 1; i < levels; i++ {
		fmt.Fprintf(&b, "group a%d = member of a%d or member of b%d\ngroup b%d = member of a%d and member of b%d\n",
			i, i-1, i-1, i, i-1, i-1)
	}
	b.WriteString("layer allowances\n")
	return b.String()
}

// resident is how much memory the server has, in MB.
func (s *site) resident() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", s.cmd.Process.Pid))
	require.NoError(s.t, err)
	for line := range strings.Lines(string(raw)) {
		if text, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			kb, err := strconv.Atoi(strings.Fields(text)[0])
			require.NoError(s.t, err)
			return kb >> 10
		}
	}
	return 0
}

// Requests that cost much, clients that send nothing or leave early, numbers that no
// column has and a large import come at once: edits and Check are answered all the while.
func TestACrowd(t *testing.T) {
	n := rounds(t, 3)
	s := newSite(t, folder(t))
	s.start()
	var list bytes.Buffer
	list.WriteString("id,addresses,tag:env\n")
	for i := range 4000 {
		fmt.Fprintf(&list, "w%d,10.%d.%d.%d,%s\n", i, 20+i>>16, i>>8&255, i&255, []string{"live", "trial"}[i%2])
	}
	require.Equal(t, 202, s.ask("POST", "/api/v1/imports/workloads?source=list", key(), list.Bytes()).status)
	text, err := json.Marshal(map[string]string{"text": diamonds(120)})
	require.NoError(t, err)
	require.Equal(t, 201, s.ask("PUT", "/api/v1/policy/text", "", text).status)

	busy := documented("busy") // for what costs much: again after Retry-After
	ctx, stop := context.WithCancel(t.Context())
	var group sync.WaitGroup
	edits := s.editing(ctx, &group, "0", "1")
	var mu sync.Mutex
	checked := 0
	group.Go(func() {
		for ctx.Err() == nil {
			a := s.ask("GET", "/api/v1/check", "", nil)
			assert.Equal(t, 200, a.status, string(a.body))
			checked++
			time.Sleep(20 * time.Millisecond)
		}
	})
	crowd := &site{t: t, base: s.address(), may: busy}
	questions, err := json.Marshal(map[string]string{"text": strings.Repeat("any -> any any\n", 2000)})
	require.NoError(t, err)
	or := "name starts a" + strings.Repeat(" or env is live", 20_000)
	preview, err := json.Marshal(map[string]string{"name": "", "text": or})
	require.NoError(t, err)
	deeper, err := json.Marshal(map[string]string{"text": diamonds(3000)})
	require.NoError(t, err)
	answered := map[string]int{}
	for range n {
		hangUp := s.idle(60)
		var asking sync.WaitGroup
		for _, q := range []struct {
			method, path string
			body         []byte
		}{
			{"POST", "/api/v1/imports/flows", flows(1, rand.IntN(250), 250)},
			{"POST", "/api/v1/whatif", questions},
			{"POST", "/api/v1/groups/preview", preview},
			{"PUT", "/api/v1/policy/text?dryRun=true", deeper},
			{"GET", "/api/v1/check?against=2147483648", nil},
			{"GET", "/api/v1/conversations?limit=9223372036854775807", nil},
		} {
			asking.Go(func() {
				a := crowd.ask(q.method, q.path, key(), q.body)
				mu.Lock()
				answered[fmt.Sprint(q.path, " ", a.status)]++
				mu.Unlock()
			})
			asking.Go(func() { // somebody who leaves early
				ctx, leave := context.WithTimeout(ctx, time.Duration(5+rand.IntN(200))*time.Millisecond)
				defer leave()
				crowd.askWithin(ctx, q.method, q.path, key(), q.body)
			})
		}
		asking.Wait()
		hangUp()
	}
	stop()
	group.Wait()
	t.Logf("%d rounds, %d checks meanwhile, %d MB, answers %v", n, checked, s.resident(), answered)
	require.Positive(t, checked)
	require.Less(t, s.resident(), 1500)
	s.edited(edits).report(t, "edits in a crowd", n)
}
