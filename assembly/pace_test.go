package assembly_test

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly/assemblytest"
	"lucidorchard/server"
)

// Connections that send one octet of a body take no place from anybody, and end.
func TestABodyThatDoesNotComeHoldsNobodyUp(t *testing.T) {
	c, _ := assemblytest.Serve(t).Bare(server.Patience{Pause: 3 * time.Second})
	c.Begin()
	var slow []net.Conn
	for range 20 {
		slow = append(slow, c.Begun("/api/v1/tags", "application/json"),
			c.Begun("/api/v1/imports/workloads?preview=true", "text/csv"),
			c.Begun("/api/v1/imports/flows?preview=true", "text/csv"))
	}
	require.Equal(t, 200, c.Call("GET", "/api/v1/check", nil, nil))
	require.Equal(t, 200, c.Call("POST", "/api/v1/tags", map[string]any{"workloads": []string{"booking-entry-01"},
		"key":   "owner",
		"value": "someone"}, nil))
	require.Equal(t, 200, c.Call("POST", "/api/v1/imports/workloads?preview=true", "id\nquay-77\n", nil))
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
	c, _ := assemblytest.Serve(t).Bare(server.Patience{Pause: time.Second, Whole: time.Second})
	c.Begin()
	done := make(chan int)
	tx, err := c.Direct().Begin(t.Context())
	require.NoError(t, err)
	_, err = tx.Exec(t.Context(), "lock table tags in access exclusive mode")
	require.NoError(t, err)
	go func() {
		done <- c.Call("POST", "/api/v1/tags", map[string]any{"workloads": []string{"booking-entry-01"}, "key": "owner",
			"value": "someone"}, nil)
	}()
	time.Sleep(7 * time.Second) // longer than any deadline that once was
	require.NoError(t, tx.Rollback(t.Context()))
	require.Equal(t, 200, <-done)
}

// A client that takes nothing of its answer is let go.
func TestAnAnswerThatNobodyTakes(t *testing.T) {
	c, _ := assemblytest.Serve(t).Bare(server.Patience{Take: time.Second})
	c.Begin()
	conn, err := net.Dial("tcp", strings.TrimPrefix(c.Base, "http://"))
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
	r, err := http.Get(c.Base + "/api/openapi.json")
	require.NoError(t, err)
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	whole = len(text) * 10_000
	require.Less(t, n, int64(whole/2), "the rest was not sent")
}

// What is answered with a failure is in the log, with its cause.
func TestFailuresAreLogged(t *testing.T) {
	c, log := assemblytest.Serve(t).Bare(server.Patience{})
	c.Begin()
	_, err := c.Direct().Exec(t.Context(), "alter table tags rename to tags_elsewhere")
	require.NoError(t, err)
	require.Equal(t, 503, c.Call("POST", "/api/v1/tags", map[string]any{"workloads": []string{"booking-entry-01"},
		"key":   "owner",
		"value": "someone"}, nil))
	require.Contains(t, log.String(), "status=503")
	require.Contains(t, log.String(), `relation \"tags\" does not exist`)
	require.Contains(t, log.String(), "/problems/database-away")
}
