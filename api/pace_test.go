package api_test

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"lucidorchard/api"
	"lucidorchard/app"
)

// written is a log that a test reads.
type written struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (w *written) Write(b []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.text.Write(b)
}

func (w *written) String() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.text.String()
}

// bare runs another server on the same database, with nothing between it and the
// network, that has so much patience; it gives what it logs.
func (c client) bare(p api.Patience) (client, *written) {
	ctx, cancel := context.WithCancel(context.Background())
	log := &written{}
	s := api.New(app.New(ctx, app.Options{Store: c.db, Author: "tester", Log: slog.New(slog.NewTextHandler(log, nil))}),
		api.Options{Web: fstest.MapFS{}, Estate: "Saltmarsh Ferries", Patience: p})
	h := httptest.NewServer(s)
	c.t.Cleanup(func() {
		cancel()
		s.Wait()
		h.Close()
	})
	return client{c.t, h.URL, c.db, c.url}, log
}

// direct gives a connection to the database beside the server's.
func (c client) direct() *pgx.Conn {
	conn, err := pgx.Connect(c.t.Context(), c.url)
	require.NoError(c.t, err)
	c.t.Cleanup(func() { conn.Close(context.Background()) })
	return conn
}

// begun opens a connection and sends the beginning of a request with a body.
func (c client) begun(path, kind string) net.Conn {
	conn, err := net.Dial("tcp", strings.TrimPrefix(c.base, "http://"))
	require.NoError(c.t, err)
	c.t.Cleanup(func() { conn.Close() })
	_, err = fmt.Fprintf(conn, "POST %s HTTP/1.1\r\nHost: localhost\r\nContent-Type: %s\r\nContent-Length: 90\r\n\r\n{", path, kind)
	require.NoError(c.t, err)
	return conn
}

// Connections that send one octet of a body take no place from anybody, and end.
func TestABodyThatDoesNotComeHoldsNobodyUp(t *testing.T) {
	c, _ := serve(t).bare(api.Patience{Pause: 3 * time.Second})
	c.begin()
	var slow []net.Conn
	for range 20 {
		slow = append(slow, c.begun("/api/v1/tags", "application/json"),
			c.begun("/api/v1/imports/workloads?preview=true", "text/csv"),
			c.begun("/api/v1/imports/flows?preview=true", "text/csv"))
	}
	require.Equal(t, 200, c.call("GET", "/api/v1/check", nil, nil))
	require.Equal(t, 200, c.call("POST", "/api/v1/tags", map[string]any{"workloads": []string{"booking-entry-01"}, "key": "owner",
		"value": "someone"}, nil))
	require.Equal(t, 200, c.call("POST", "/api/v1/imports/workloads?preview=true", "id\nquay-77\n", nil))
	for _, conn := range slow {
		require.NoError(t, conn.SetReadDeadline(time.Now().Add(time.Minute)))
		r, err := http.ReadResponse(bufio.NewReader(conn), nil)
		require.NoError(t, err)
		text, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		require.Equal(t, 408, r.StatusCode)
		require.Contains(t, string(text), "no data for 3s")
		_, err = conn.Read(make([]byte, 1))
		require.ErrorIs(t, err, io.EOF, "the connection ended")
	}
}

// A request that waits for others longer than it had to arrive is answered all the same.
func TestWaitingForTheDatabaseIsNoFault(t *testing.T) {
	c, _ := serve(t).bare(api.Patience{Pause: time.Second, Whole: time.Second})
	c.begin()
	done := make(chan int)
	tx, err := c.direct().Begin(t.Context())
	require.NoError(t, err)
	_, err = tx.Exec(t.Context(), "lock table tags in access exclusive mode")
	require.NoError(t, err)
	go func() {
		done <- c.call("POST", "/api/v1/tags", map[string]any{"workloads": []string{"booking-entry-01"}, "key": "owner",
			"value": "someone"}, nil)
	}()
	time.Sleep(7 * time.Second) // longer than any deadline that once was
	require.NoError(t, tx.Rollback(t.Context()))
	require.Equal(t, 200, <-done)
}

// A client that takes nothing of its answer is let go.
func TestAnAnswerThatNobodyTakes(t *testing.T) {
	c, _ := serve(t).bare(api.Patience{Take: time.Second})
	c.begin()
	conn, err := net.Dial("tcp", strings.TrimPrefix(c.base, "http://"))
	require.NoError(t, err)
	defer conn.Close()
	require.NoError(t, conn.(*net.TCPConn).SetReadBuffer(4096))
	go func() { // more answers than the connection has room for
		for range 10_000 {
			if _, err := fmt.Fprint(conn, "GET /api/openapi.json HTTP/1.1\r\nHost: localhost\r\n\r\n"); err != nil {
				return
			}
		}
	}()
	time.Sleep(4 * time.Second)
	require.NoError(t, conn.SetReadDeadline(time.Now().Add(time.Minute)))
	n, err := io.Copy(io.Discard, conn)
	if err != nil {
		require.ErrorContains(t, err, "reset")
	}
	var whole int
	r, err := http.Get(c.base + "/api/openapi.json")
	require.NoError(t, err)
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	whole = len(text) * 10_000
	require.Less(t, n, int64(whole/2), "the rest was not sent")
}

// What is answered with a failure is in the log, with its cause.
func TestFailuresAreLogged(t *testing.T) {
	c, log := serve(t).bare(api.Patience{})
	c.begin()
	_, err := c.direct().Exec(t.Context(), "alter table tags rename to tags_elsewhere")
	require.NoError(t, err)
	require.Equal(t, 503, c.call("POST", "/api/v1/tags", map[string]any{"workloads": []string{"booking-entry-01"}, "key": "owner",
		"value": "someone"}, nil))
	require.Contains(t, log.String(), "status=503")
	require.Contains(t, log.String(), `relation \"tags\" does not exist`)
	require.Contains(t, log.String(), "/problems/database-away")
}
