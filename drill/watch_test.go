package drill

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/notify"
)

// receiver takes events, and is down for a while now and then.
type receiver struct {
	mu       sync.Mutex
	down     bool
	matters  map[string]map[string]bool // ids of messages, by matter
	arrivals int
}

func (r *receiver) ServeHTTP(w http.ResponseWriter, q *http.Request) {
	body, err := io.ReadAll(q.Body)
	var event struct {
		ID   string
		Data notify.Message
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if err != nil || r.down || json.Unmarshal(body, &event) != nil {
		w.WriteHeader(http.StatusServiceUnavailable)
		return
	}
	for _, m := range append([]notify.Message{event.Data}, event.Data.Parts...) {
		if r.matters[m.Matter] == nil {
			r.matters[m.Matter] = map[string]bool{}
		}
		r.matters[m.Matter][m.ID] = true
		r.arrivals++
	}
}

func (r *receiver) set(down bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.down = down
}

// heard reports whether a matter was told of.
func (r *receiver) heard(matter string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.matters[matter]) > 0
}

// leaking is a policy of groups that come in pairs: from each of the first to its second
// nothing may go.
func leaking(pairs int) string {
	var b strings.Builder
	for i := range pairs {
		fmt.Fprintf(&b, "group c%d = address in 10.1.%d.0/24\ngroup s%d = address in 10.2.%d.0/24\n", i, i, i, i)
	}
	b.WriteString("layer closing\n")
	for i := range pairs {
		fmt.Fprintf(&b, "reject c%d -> s%d on any\n", i, i)
	}
	return b.String()
}

// What leaks is a matter, and somebody is told of each, whatever is killed or down while
// it happens: the server, its database, who is told.
func TestMattersAreToldThroughKills(t *testing.T) {
	n := rounds(t, 4)
	const each = 5
	got := &receiver{matters: map[string]map[string]bool{}}
	hook := httptest.NewServer(got)
	defer hook.Close()
	s := newSite(t, folder(t))
	s.may = whileKilled
	s.start()
	text, err := json.Marshal(map[string]string{"text": leaking(n * each)})
	require.NoError(t, err)
	require.Equal(t, 201, s.ask("PUT", "/api/v1/policy/text", "", text).status)
	require.Equal(t, 204, s.ask("PUT", "/api/v1/watch/destinations/duty", "",
		fmt.Appendf(nil, `{"kind":"webhook","address":%q,"secret":"s"}`, hook.URL)).status)
	require.Equal(t, 201,
		s.ask("POST", "/api/v1/watch/notices", "", []byte(`{"kinds":["leak"],"pace":"at once","to":["duty"]}`)).status)
	at := func() string { return time.Now().UTC().Format(time.RFC3339Nano) } // what was before the notice is not told
	for round := range n {
		var b strings.Builder
		b.WriteString("start,src,dst,proto,dport,outcome\n")
		for i := round * each; i < (round+1)*each; i++ {
			fmt.Fprintf(&b, "%s,10.1.%d.1,10.2.%d.1,tcp,443,carried\n", at(), i, i)
		}
		for k := key(); ; time.Sleep(50 * time.Millisecond) {
			if a := s.ask("POST", "/api/v1/imports/flows", k, []byte(b.String())); a.status == 202 {
				break
			}
		}
		got.set(round%3 == 1)
		time.Sleep(time.Duration(100+331*round%1900) * time.Millisecond)
		switch round % 4 {
		case 0:
			s.kill()
			s.start()
		case 1:
			s.killPostmaster()
		case 2:
			s.killPostmaster()
			s.kill()
			s.start()
		case 3:
			s.end()
			s.start()
		}
	}
	got.set(false)
	// A file whose job a kill has ended is said to have failed, and sent again by whoever sent it.
	there := s.imported()
	for i := range n * each {
		if client := fmt.Sprintf("10.1.%d.1", i); there[client] == 0 {
			row := fmt.Sprintf("start,src,dst,proto,dport,outcome\n%s,%s,10.2.%d.1,tcp,443,carried\n", at(), client, i)
			require.Equal(t, 202, s.ask("POST", "/api/v1/imports/flows", key(), []byte(row)).status)
		}
	}
	var w struct {
		Matters []struct {
			ID, Kind string
		}
	}
	leaks, told := 0, 0
	require.Eventually(t, func() bool {
		s.get("/api/v1/watch?period=day", &w)
		leaks, told = 0, 0
		for _, m := range w.Matters {
			if m.Kind == "leak" {
				leaks++
				if got.heard(m.ID) {
					told++
				}
			}
		}
		return leaks == n*each && told == leaks
	}, 2*time.Minute, 300*time.Millisecond, "each leak is a matter, and told: there are %s",
		lateText(func() string { return fmt.Sprintf("%d matters, %d told", leaks, told) }))
	got.mu.Lock()
	defer got.mu.Unlock()
	again := got.arrivals
	for _, ids := range got.matters {
		again -= len(ids)
	}
	t.Logf("%-34s %3d rounds  matters %4d  told %4d  messages that came again, under the same id %d",
		"matters through kills", n, n*each, len(got.matters), again)
}

// lateText is worked out when it is printed.
type lateText func() string

func (f lateText) String() string { return f() }
