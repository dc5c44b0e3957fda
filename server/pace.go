package server

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
)

// Patience is how long the server waits for a client: for the next octet of what it
// sends, for all of it, and for it to take the next part of an answer. What is zero
// is as in usualPatience.
type Patience struct{ Pause, Whole, Take time.Duration }

var usualPatience = Patience{Pause: 20 * time.Second, Whole: 2 * time.Minute, Take: 30 * time.Second}

func (p Patience) orUsual() Patience {
	return Patience{cmp.Or(p.Pause, usualPatience.Pause), cmp.Or(p.Whole, usualPatience.Whole),
		cmp.Or(p.Take, usualPatience.Take)}
}

// mostInMemory is up to how many octets of a body wait for their turn in memory;
// the rest waits in a file.
const mostInMemory = 1 << 20

// patient reads a body, with a deadline for each read and one for all of it.
// Deadlines are of the connection and would end it during the answer: done takes
// them away.
type patient struct {
	body  io.Reader
	until func(time.Time) error
	pause time.Duration
	end   time.Time
}

func (p Patience) with(body io.Reader, until func(time.Time) error) *patient {
	return &patient{body, until, p.Pause, time.Now().Add(p.Whole)}
}

func (p *patient) Read(b []byte) (int, error) {
	next := time.Now().Add(p.pause)
	if next.After(p.end) {
		next = p.end
	}
	if err := p.until(next); err != nil && !errors.Is(err, http.ErrNotSupported) {
		return 0, err
	}
	return p.body.Read(b)
}

// done takes the deadline away, after all was read.
func (p *patient) done() { _ = p.until(time.Time{}) } // the connection may be gone

// failed leaves the server a little time for what is still on its way before it ends the
// connection; none, if it waited in vain.
func (p *patient) failed(err error) {
	if errors.Is(err, os.ErrDeadlineExceeded) {
		_ = p.until(time.Now())
	} else {
		_ = p.until(time.Now().Add(p.pause))
	}
}

// sentAsFile reports whether the handler of a path reads the body itself, as it comes.
func sentAsFile(path string) bool {
	return strings.HasPrefix(path, Version+"/imports/") || path == listingPath ||
		strings.HasPrefix(path, Version+"/estate")
}

// arrived reads a body whole before anything else is done for the request, so
// that nobody who sends slowly takes a place from others.
func (s *Kit) arrived(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Body == nil || r.Body == http.NoBody || r.ContentLength == 0 || sentAsFile(r.URL.Path) {
			next.ServeHTTP(w, r)
			return
		}
		if r.ContentLength > mostJSON {
			WriteProblem(w, tooLarge())
			return
		}
		p := s.Patience.with(r.Body, http.NewResponseController(w).SetReadDeadline)
		body, size, err := s.spooled(io.LimitReader(p, mostJSON+1))
		if err != nil {
			p.failed(err)
			w.Header().Set("Connection", "close")
			WriteProblem(w, s.unarrived(r.Context(), err, s.Patience))
			return
		}
		defer body.Close()
		if size > mostJSON {
			p.failed(nil)
			w.Header().Set("Connection", "close")
			WriteProblem(w, tooLarge())
			return
		}
		p.done()
		r.Body = body
		r.ContentLength = size
		next.ServeHTTP(w, r)
	})
}

func tooLarge() error {
	return huma.NewError(http.StatusRequestEntityTooLarge,
		fmt.Sprintf("the request is larger than %d MB, the most that is taken", mostJSON>>20))
}

// unarrived returns why a body did not arrive whole, with a patience.
func (s *Kit) unarrived(ctx context.Context, err error, within Patience) error {
	var disk *os.PathError
	switch {
	case errors.As(err, &disk):
		s.Log.ErrorContext(ctx, "a received request cannot be queued", "error", err)
		return newProblem(http.StatusInsufficientStorage, problemFull,
			fmt.Sprintf("the request cannot be queued in %s: %s; nothing was stored", s.Uploads, disk.Err))
	case errors.Is(err, os.ErrDeadlineExceeded):
		return newProblem(http.StatusRequestTimeout, problemSlow, fmt.Sprintf(
			"the request did not arrive in time: no data for %s, or more than %s in all; nothing was stored",
			within.Pause, within.Whole))
	}
	return huma.Error400BadRequest("the request is incomplete: " + err.Error() + "; nothing was stored")
}

// spooled reads all there is, the most of it into a file that nobody else sees.
func (s *Kit) spooled(r io.Reader) (io.ReadCloser, int64, error) {
	var head bytes.Buffer
	n, err := io.Copy(&head, io.LimitReader(r, mostInMemory))
	if err != nil || n < mostInMemory {
		return io.NopCloser(bytes.NewReader(head.Bytes())), n, err
	}
	if err := os.MkdirAll(s.Uploads, 0o700); err != nil {
		return nil, 0, err
	}
	f, err := os.CreateTemp(s.Uploads, "upload-*")
	if err != nil {
		return nil, 0, err
	}
	_ = os.Remove(f.Name()) // it goes when it is closed, and with the program
	more, err := io.Copy(f, r)
	if err == nil {
		_, err = f.Seek(0, io.SeekStart)
	}
	if err != nil {
		f.Close()
		return nil, 0, err
	}
	return struct {
		io.Reader
		io.Closer
	}{io.MultiReader(bytes.NewReader(head.Bytes()), f), f}, n + more, nil
}

// writeAgain is how often, at most, the deadline of what is written is moved.
const writeAgain = time.Second

// paced sets a deadline for each write to a client: one that takes nothing is let go,
// or its answer would stand in memory for as long as it likes.
func (s *Kit) paced(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p := &pacedWriter{ResponseWriter: w, control: http.NewResponseController(w), take: s.Patience.Take}
		p.move() // what an earlier answer on this connection left may be over
		next.ServeHTTP(p, r)
		p.set = time.Time{} // the rest of the answer is sent after this
		p.move()
	})
}

type pacedWriter struct {
	http.ResponseWriter
	control *http.ResponseController
	take    time.Duration
	set     time.Time
}

func (p *pacedWriter) Write(b []byte) (int, error) {
	p.move()
	return p.ResponseWriter.Write(b)
}

// flushError sends what was written (http.ResponseController).
func (p *pacedWriter) flushError() error {
	p.move()
	return p.control.Flush()
}

// Flush sends what was written (http.Flusher).
func (p *pacedWriter) Flush() { _ = p.flushError() }

// Unwrap returns what it writes to (http.ResponseController).
func (p *pacedWriter) Unwrap() http.ResponseWriter { return p.ResponseWriter }

func (p *pacedWriter) move() {
	if now := time.Now(); now.Sub(p.set) > min(writeAgain, p.take/4) {
		p.set = now
		_ = p.control.SetWriteDeadline(now.Add(p.take)) // a recorder of a test has none
	}
}
