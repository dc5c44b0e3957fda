package api

import (
	"context"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"lucidorchard/app"

	"github.com/stretchr/testify/require"
)

func quiet() *slog.Logger { return slog.New(slog.NewTextHandler(io.Discard, nil)) }

func TestLargeQuestionsWaitTheirTurn(t *testing.T) {
	s := &base{App: app.New(t.Context(), app.Options{Log: quiet()})}
	hold, begun := make(chan struct{}), make(chan struct{}, 200)
	guard, _, waits := s.limited()
	h := httptest.NewServer(guard(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/api/v1/check" {
			begun <- struct{}{}
			<-hold
		}
	})))
	t.Cleanup(h.Close)
	ask := func(ctx context.Context, path string) (*http.Response, error) {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, h.URL+path, nil)
		require.NoError(t, err)
		return http.DefaultClient.Do(req)
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

func TestAFaultIsAnsweredHonestly(t *testing.T) {
	s := &base{App: app.New(t.Context(), app.Options{Log: quiet()})}
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
	require.Contains(t, string(text), "the program has a fault")
	require.NotContains(t, string(text), "index 7")
}
