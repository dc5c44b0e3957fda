package server

import (
	"context"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func quiet() *slog.Logger { return slog.New(slog.NewTextHandler(io.Discard, nil)) }

func TestLargeQuestionsWaitTheirTurn(t *testing.T) {
	hold, begun := make(chan struct{}), make(chan struct{}, 200)
	places := newTurns()
	waits := func() int { _, n := places.figures(); return n }
	h := httptest.NewServer(places.limited(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/api/v1/check" {
			begun <- struct{}{}
			<-hold
		}
	})))
	t.Cleanup(h.Close)
	clients := [2]*http.Client{fromAddress(t, "127.0.0.2"), fromAddress(t, "127.0.0.3")}
	var turn atomic.Int32
	ask := func(ctx context.Context, path string) (*http.Response, error) {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, h.URL+path, nil)
		require.NoError(t, err)
		return clients[int(turn.Add(1))%2].Do(req)
	}
	done := make(chan *http.Response, 200)
	for range largeAtOnce {
		go func() {
			if r, err := ask(t.Context(), "/api/v1/check"); err == nil {
				done <- r
			}
		}()
	}
	for range largeAtOnce {
		<-begun
	}
	// One that waits goes when its client does, and makes room for another.
	leaving, leave := context.WithCancel(t.Context())
	left := make(chan error)
	go func() {
		_, err := ask(leaving, "/api/v1/check")
		left <- err
	}()
	r, err := ask(t.Context(), "/api/v1/jobs")
	require.NoError(t, err)
	require.Equal(t, 200, r.StatusCode, "small questions do not wait")
	require.Eventually(t, func() bool { return waits() == 1 }, 10*time.Second, time.Millisecond)
	leave()
	require.Error(t, <-left)
	require.Eventually(t, func() bool { return waits() == 0 }, 10*time.Second, time.Millisecond)
	waiting, stop := context.WithCancel(t.Context())
	const more = largeWaiting + 20 // some of them are turned away at once
	for range more {
		go func() {
			if r, err := ask(waiting, "/api/v1/check"); err == nil {
				done <- r
			}
		}()
	}
	// When too many wait, the client is told to come again.
	r = <-done
	require.Equal(t, 503, r.StatusCode)
	require.NotEmpty(t, r.Header.Get("Retry-After"))
	require.Equal(t, "application/problem+json", r.Header.Get("Content-Type"))
	close(hold)
	answered := map[int]int{503: 1}
	for range largeAtOnce + more - 1 {
		answered[(<-done).StatusCode]++
	}
	stop()
	require.GreaterOrEqual(t, answered[200], largeAtOnce+largeWaiting-1)
	require.Equal(t, largeAtOnce+more, answered[200]+answered[503])
}

// fromAddress returns a client whose requests come from an address of this machine.
func fromAddress(t *testing.T, address string) *http.Client {
	dialer := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(address)}}
	transport := &http.Transport{DialContext: dialer.DialContext}
	t.Cleanup(transport.CloseIdleConnections)
	return &http.Client{Transport: transport}
}

// One client that asks for more than its share leaves places for others.
func TestOneClientDoesNotTakeAllPlaces(t *testing.T) {
	places := newTurns()
	for range largeOfOne {
		ok, _ := places.Take(t.Context(), "one")
		require.True(t, ok)
	}
	more := make(chan bool)
	go func() {
		ok, _ := places.Take(t.Context(), "one")
		more <- ok
	}()
	require.Eventually(t, func() bool { _, n := places.figures(); return n == 1 }, 10*time.Second, time.Millisecond)
	ok, _ := places.Take(t.Context(), "another")
	require.True(t, ok, "it does not stand behind the one")
	places.Leave("one")
	require.True(t, <-more)
	worked, waiting := places.figures()
	require.Equal(t, [2]int{largeOfOne + 1, 0}, [2]int{worked, waiting})
}

// Whatever is asked at once, by many and with some that leave: no bound is passed,
// nobody is forgotten, and at the end every place is free.
func TestPlacesAreKeptInOrder(t *testing.T) {
	places := newTurns()
	places.Wait = 50 * time.Millisecond
	var mu sync.Mutex
	of, all, most := map[string]int{}, 0, 0
	var wg sync.WaitGroup
	for i := range 400 {
		wg.Go(func() {
			client := string(rune('a' + i%3))
			ctx, cancel := context.WithTimeout(t.Context(), time.Duration(i%7)*10*time.Millisecond)
			defer cancel()
			if ok, _ := places.Take(ctx, client); !ok {
				return
			}
			mu.Lock()
			of[client]++
			all++
			most = max(most, all)
			if of[client] > largeOfOne || all > largeAtOnce {
				t.Errorf("%d of %s at once, %d in all", of[client], client, all)
			}
			mu.Unlock()
			time.Sleep(time.Duration(i%5) * time.Millisecond)
			mu.Lock()
			of[client]--
			all--
			mu.Unlock()
			places.Leave(client)
		})
	}
	wg.Wait()
	worked, waiting := places.figures()
	require.Equal(t, [2]int{0, 0}, [2]int{worked, waiting})
	require.Greater(t, most, 1)
}

func TestAFaultIsAnsweredHonestly(t *testing.T) {
	s := &Kit{Options: Options{Log: quiet()}}
	h := httptest.NewServer(s.recovered(http.HandlerFunc(func(http.ResponseWriter,
		*http.Request) {
		panic("index 7")
	})))
	defer h.Close()
	r, err := http.Get(h.URL)
	require.NoError(t, err)
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	require.Equal(t, 500, r.StatusCode)
	require.Contains(t, string(text), "failed to answer because of a bug")
	require.NotContains(t, string(text), "index 7")
}
