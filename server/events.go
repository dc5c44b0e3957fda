package server

import (
	"encoding/json"
	"fmt"
	"net/http"
	"time"
)

// serveEvents sends a line for each change (server-sent events, WHATWG HTML).
func (s *jobsAPI) serveEvents(w http.ResponseWriter, r *http.Request) {
	control := http.NewResponseController(w)
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	quiet := false
	for {
		now, next := s.Events.Next()
		message := ": nothing new\n\n"
		if !quiet {
			data, err := json.Marshal(now)
			if err != nil {
				return
			}
			message = fmt.Sprintf("event: changed\ndata: %s\n\n", data)
		}
		if _, err := fmt.Fprint(w, message); err != nil {
			return
		}
		if err := control.Flush(); err != nil {
			return
		}
		quiet = false
		select {
		case <-next:
		case <-r.Context().Done():
			return
		case <-s.Done:
			return
		case <-time.After(25 * time.Second):
			quiet = true
		}
	}
}
