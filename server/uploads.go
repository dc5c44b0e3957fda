package server

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/imports"
	"lucidorchard/ingest"
)

// Bounds of files that are sent here. They are written to the disk as they come;
// in memory is only what is read of them at a time.
const (
	MostFlows = 4 << 30 // octets of a file of traffic, which is read in parts
	// octets of a list of workloads, which is compared whole: about 3.5 kB of memory a row, with what is made of it
	MostWorkloads = 64 << 20
	MostEstate    = 8 << 30   // octets of an export, which is read line by line
	sendFile      = time.Hour // that a file may take to arrive
)

// Sent is the body of a request, which the handler reads as it comes.
type Sent struct {
	body io.Reader
	ctx  huma.Context
}

// Resolve takes hold of the body (huma.Resolver).
func (b *Sent) Resolve(ctx huma.Context) []error {
	b.body, b.ctx = ctx.BodyReader(), ctx
	return nil
}

// anyBody describes a body that is read as it comes.
func anyBody(types ...string) *huma.RequestBody {
	content := map[string]*huma.MediaType{}
	for _, t := range types {
		content[t] = &huma.MediaType{}
		if t != "application/json" { // with a schema, it would be read and checked before the handler has it
			content[t].Schema = &huma.Schema{Type: "string", Format: "binary"}
		}
	}
	return &huma.RequestBody{Required: true, Content: content}
}

// Receive writes a body to a file of its own, unpacked, of at most so many octets.
func (s *Kit) Receive(ctx context.Context, b *Sent, most int64) (*imports.File, error) {
	if err := s.Disk.Room(""); err != nil {
		return nil, err
	}
	within := Patience{Pause: s.Patience.Pause, Whole: sendFile}
	sent := within.with(b.body, b.ctx.SetReadDeadline)
	if err := os.MkdirAll(s.Uploads, 0o700); err != nil {
		return nil, err
	}
	f, err := os.CreateTemp(s.Uploads, "upload-*")
	if err != nil {
		return nil, err
	}
	u := &imports.File{Path: f.Name()}
	keep := false
	body := &noted{}
	defer func() {
		f.Close()
		if !keep {
			u.Close()
		}
	}()
	defer func() {
		if !keep {
			sent.failed(body.err)
		}
	}()
	hash := sha256.New()
	var plain io.Reader
	if plain, body.err = ingest.Unpacked(sent); body.err == nil {
		body.r = io.LimitReader(plain, most+1)
		u.Size, err = io.Copy(io.MultiWriter(f, hash), body)
	}
	var packed *ingest.UnpackError
	switch {
	case errors.As(body.err, &packed):
		return nil, huma.Error400BadRequest(packed.Error() + "; nothing was stored. Compress it again, or send it " +
			"uncompressed")
	case errors.Is(body.err, os.ErrDeadlineExceeded):
		return nil, s.unarrived(ctx, body.err, within)
	case body.err != nil: // of the sender, not of the disk
		return nil, huma.Error400BadRequest("the file is incomplete: " + body.err.Error() +
			"; nothing was stored")
	case err != nil:
		s.Log.Error("an uploaded file cannot be written", "error", err)
		return nil, newProblem(http.StatusInsufficientStorage, problemFull,
			fmt.Sprintf("the file cannot be written to %s: %s; nothing was stored", s.Uploads, errors.Unwrap(err)))
	case u.Size > most:
		return nil, huma.NewError(http.StatusRequestEntityTooLarge,
			fmt.Sprintf("the file is larger than %d MB, the most that is taken; send it in parts", most>>20))
	}
	u.Sum, u.Head = hex.EncodeToString(hash.Sum(nil)), body.head
	sent.done()
	keep = true
	if err := takeTurn(ctx); err != nil {
		u.Close()
		return nil, err
	}
	return u, nil
}

// noted remembers the beginning of what is read, and why reading it failed.
type noted struct {
	r    io.Reader
	head []byte
	err  error
}

func (n *noted) Read(p []byte) (int, error) {
	k, err := n.r.Read(p)
	if room := 4096 - len(n.head); room > 0 {
		n.head = append(n.head, p[:min(k, room)]...)
	}
	if err != nil && err != io.EOF {
		n.err = err
	}
	return k, err
}

// dropUploads removes what an earlier run left.
func (s *Kit) dropUploads() {
	left, _ := filepath.Glob(filepath.Join(s.Uploads, "upload-*"))
	for _, f := range left {
		_ = os.Remove(f)
	}
}
