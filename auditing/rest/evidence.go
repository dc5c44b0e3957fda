package rest

import (
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/auditing"
	"lucidorchard/core/evidence"
	"lucidorchard/printing"
	"lucidorchard/refuse"
	"lucidorchard/server"
)

// Proofs answers about evidence for auditors.
type Proofs struct {
	*server.Kit
	*answers.Desk
	*auditing.Service
	Here string
}

func (s *Proofs) Routes(r server.Routes) {
	server.Get(r, "list-evidence-made", "/evidence", "Evidence that was made, the newest first", s.made)
	server.Post(r, "make-evidence", "/evidence", "Make evidence for a promise over a period", s.make, server.Starts,
		server.CanBeMissing)
	server.Get(r, "read-evidence-promises", "/evidence/promises",
		"What evidence can be made for, and the key that signs it", s.promises)
	server.Get(r, "compare-evidence", "/evidence/comparison", "How two periods differ", s.compare, server.CanBeMissing,
		server.CanBeTampered)
	server.Get(r, "read-evidence", "/evidence/{id}", "Evidence", s.read, server.CanBeMissing, server.CanBeTampered)
	server.Remove(r, "drop-evidence", "/evidence/{id}", "Forget evidence", s.drop, server.CanBeMissing)
	server.Get(r, "download-evidence", "/evidence/{id}/signed", "Evidence as signed JSON", s.signed,
		server.CanBeMissing, server.CanBeTampered)
	server.Get(r, "print-evidence", "/evidence/{id}/pdf", "Evidence as PDF, printed by a browser on the server", s.pdf,
		server.CanBeMissing, server.CanBeTampered)
	server.Get(r, "read-evidence-input", "/evidence/{id}/inputs/{name}",
		"The lines of an input of evidence, made again from what is on record now", s.input, server.CanBeMissing,
		server.CanBeTampered)
	server.Get(r, "list-evidence-schedules", "/evidence-schedules", "Evidence that is made by itself", s.schedules)
	server.Post(r, "add-evidence-schedule", "/evidence-schedules", "Let evidence be made by itself", s.addSchedule,
		server.Creates, server.CanBeMissing)
	server.Remove(r, "drop-evidence-schedule", "/evidence-schedules/{id}",
		"Make it no more by itself; what was made stays", s.dropSchedule, server.CanBeMissing)
}

// EvidencePromises is what evidence can be made for.
type EvidencePromises struct {
	Assertions  []string `json:"assertions" doc:"Of the draft, in its order"`
	Groups      []string `json:"groups" doc:"By name"`
	Key         string   `json:"key" doc:"The public key of this server, Ed25519, base64"`
	Fingerprint string   `json:"fingerprint" doc:"Fingerprint of the key, for comparison"`
	Prints      bool     `json:"prints" doc:"Whether the server can make PDFs"`
}

// evidenceIn is what evidence is asked for.
type evidenceIn struct {
	Promise string `json:"promise" minLength:"1" maxLength:"10000" doc:"An assertion, or group and its name"`
	From    string `json:"from" format:"date" doc:"The first day, UTC"`
	To      string `json:"to" format:"date" doc:"The last day, UTC; one that is not over ends now"`
}

// EvidenceOut is evidence with its number.
type EvidenceOut struct {
	ID          int64             `json:"id"`
	Evidence    evidence.Evidence `json:"evidence"`
	Fingerprint string            `json:"fingerprint" doc:"Of the key that signed it"`
	Schedule    *int64            `json:"schedule,omitempty" doc:"That made it; none: somebody"`
	Prints      bool              `json:"prints" doc:"Whether the server can make a PDF of it"`
}

type evidenceID struct {
	ID int64 `path:"id" minimum:"1"`
}

func (s *Proofs) made(ctx context.Context, in *struct{ server.All }) (*server.List[EvidenceKept], error) {
	all, err := s.EvidenceMade(ctx)
	if err != nil {
		return nil, err
	}
	return server.Cut(ctx, server.Each(all, newEvidenceKept), in.All), nil
}

func (s *Proofs) make(ctx context.Context, in *struct{ Body evidenceIn }) (*server.Begun, error) {
	m, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	var days [2]time.Time
	for i, x := range [][2]string{{"from", in.Body.From}, {"to", in.Body.To}} {
		if days[i], err = time.Parse(time.DateOnly, x[1]); err != nil {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("%s: found %q, expected a day such as 2026-11-01",
				x[0], x[1]))
		}
	}
	return server.Begin(s.MakeEvidence(ctx, m, in.Body.Promise, days[0], days[1].AddDate(0, 0, 1)))
}

func (s *Proofs) promises(ctx context.Context, _ *struct{}) (*server.Body[EvidencePromises], error) {
	m, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	out := EvidencePromises{Assertions: []string{}, Groups: []string{}, Prints: printing.Browser() != ""}
	for _, a := range m.Policy.Asserts {
		if text := a.Sentence(); !slices.Contains(out.Assertions, text) {
			out.Assertions = append(out.Assertions, text)
		}
	}
	for name := range m.Policy.Groups {
		out.Groups = append(out.Groups, name)
	}
	slices.Sort(out.Groups)
	key, err := s.SigningKey(ctx)
	if err != nil {
		return nil, err
	}
	public := key.Public().(ed25519.PublicKey)
	out.Key, out.Fingerprint = base64.StdEncoding.EncodeToString(public), evidence.Fingerprint(public)
	return server.OK(out), nil
}

func (s *Proofs) read(ctx context.Context, in *evidenceID) (*server.Body[EvidenceOut], error) {
	kept, e, key, err := s.Evidence(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	return server.OK(EvidenceOut{ID: kept.ID, Evidence: *e, Fingerprint: evidence.Fingerprint(key),
		Schedule: kept.Schedule, Prints: printing.Browser() != ""}), nil
}

func (s *Proofs) drop(ctx context.Context, in *evidenceID) (*struct{}, error) {
	there, err := s.DropEvidence(ctx, in.ID)
	if err == nil && !there {
		err = refuse.Missing(fmt.Sprintf("there is no evidence %d", in.ID))
	}
	return nil, err
}

// evidenceFile names what is handed out of evidence.
func evidenceFile(e *evidence.Evidence, what string) string {
	name := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-' {
			return r
		}
		return '-'
	}, strings.ToLower(strings.TrimPrefix(e.Promise.Text, "assert ")))
	return fmt.Sprintf("evidence %.60s %s to %s%s", strings.Trim(name, "-"), e.From.Format(time.DateOnly),
		e.To.Add(-time.Second).Format(time.DateOnly), what)
}

func handOut(name, kind string, text []byte) *huma.StreamResponse {
	return &huma.StreamResponse{Body: func(ctx huma.Context) {
		ctx.SetHeader("Content-Type", kind)
		ctx.SetHeader("Content-Disposition", `attachment; filename="`+name+`"`)
		_, _ = ctx.BodyWriter().Write(text) // nobody reads any more
	}}
}

func (s *Proofs) signed(ctx context.Context, in *evidenceID) (*huma.StreamResponse, error) {
	kept, e, _, err := s.Evidence(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	return handOut(evidenceFile(e, ".json"), "application/json", kept.Body), nil
}

func (s *Proofs) pdf(ctx context.Context, in *evidenceID) (*huma.StreamResponse, error) {
	_, e, _, err := s.Evidence(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	text, err := printing.PDF(ctx, fmt.Sprintf("%s/evidence/%d", s.Here, in.ID), "[data-evidence]")
	if errors.Is(err, printing.ErrNone) {
		return nil, refuse.Missing(printing.ErrNone.Error())
	}
	if err != nil {
		s.Kit.Log.Warn("evidence cannot be printed", "evidence", in.ID, "error", err)
		return nil, huma.NewError(http.StatusServiceUnavailable,
			"the browser on the server cannot print it: print the page with yours")
	}
	return handOut(evidenceFile(e, ".pdf"), "application/pdf", text), nil
}

func (s *Proofs) input(ctx context.Context, in *struct {
	ID   int64  `path:"id" minimum:"1"`
	Name string `path:"name" maxLength:"100"`
}) (*huma.StreamResponse, error) {
	_, e, _, err := s.Evidence(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(e.Inputs, func(x evidence.Input) bool { return x.Name == in.Name }) {
		return nil, refuse.Missing(fmt.Sprintf("evidence %d has no input %s", in.ID, in.Name))
	}
	return &huma.StreamResponse{Body: func(h huma.Context) {
		h.SetHeader("Content-Type", "text/plain; charset=utf-8")
		h.SetHeader("Content-Disposition", `attachment; filename="`+evidenceFile(e, " "+in.Name+".txt")+`"`)
		if err := s.EvidenceInput(ctx, in.ID, in.Name, h.BodyWriter()); err != nil && ctx.Err() == nil {
			s.Kit.Log.Warn("an input of evidence cannot be made again", "evidence", in.ID, "input", in.Name, "error",
				err)
			panic(http.ErrAbortHandler) // what was sent is not all of it
		}
	}}, nil
}

func (s *Proofs) compare(ctx context.Context, in *struct {
	Before int64 `query:"before" required:"true" minimum:"1" doc:"Number of the one"`
	After  int64 `query:"after" required:"true" minimum:"1" doc:"Number of the other"`
}) (*server.Body[evidence.Comparison], error) {
	_, before, _, err := s.Evidence(ctx, in.Before)
	if err != nil {
		return nil, err
	}
	_, after, _, err := s.Evidence(ctx, in.After)
	if err != nil {
		return nil, err
	}
	return server.OK(evidence.Compare(before, after)), nil
}

func (s *Proofs) schedules(ctx context.Context, in *struct{ server.All }) (*server.List[EvidenceSchedule],
	error) {
	all, err := s.EvidenceSchedules(ctx)
	if err != nil {
		return nil, err
	}
	return server.Cut(ctx, server.Each(all, func(x auditing.EvidenceSchedule) EvidenceSchedule {
		return EvidenceSchedule(x)
	}), in.All), nil
}

// evidenceScheduleIn is what is to be made by itself.
type evidenceScheduleIn struct {
	Promise string `json:"promise" minLength:"1" maxLength:"10000" doc:"An assertion, or group and its name"`
	Every   string `json:"every" enum:"month,quarter" doc:"It is made when one is over"`
}

// EvidenceScheduleMade is the number of a new schedule.
type EvidenceScheduleMade struct {
	ID int64 `json:"id"`
}

func (s *Proofs) addSchedule(ctx context.Context, in *struct{ Body evidenceScheduleIn }) (
	*server.Made[EvidenceScheduleMade], error) {
	m, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	id, err := s.AddEvidenceSchedule(ctx, m, in.Body.Promise, in.Body.Every)
	if err != nil {
		return nil, err
	}
	return &server.Made[EvidenceScheduleMade]{Location: fmt.Sprintf("%s/evidence-schedules/%d", server.Version, id),
		Body: EvidenceScheduleMade{id}}, nil
}

func (s *Proofs) dropSchedule(ctx context.Context, in *evidenceID) (*struct{}, error) {
	there, err := s.DropEvidenceSchedule(ctx, in.ID)
	if err == nil && !there {
		err = refuse.Missing(fmt.Sprintf("there is no schedule %d", in.ID))
	}
	return nil, err
}
