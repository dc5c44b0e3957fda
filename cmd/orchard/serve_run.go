package main

import (
	"context"
	"errors"
	"net"
	"net/http"
	"time"
)

// answer serves until ctx ends: begun is called when it answers, and ending before the
// requests that still run are given ten seconds.
func answer(ctx context.Context, h *http.Server, listener net.Listener, begun, ending func()) error {
	failed := make(chan error, 1)
	go func() { failed <- h.Serve(listener) }()
	begun()
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	ending()
	grace, done := context.WithTimeout(context.Background(), 10*time.Second)
	defer done()
	if err := h.Shutdown(grace); err != nil && !errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	return nil
}
