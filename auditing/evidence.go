package auditing

import (
	"bufio"
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"lucidorchard/core/evidence"
	"lucidorchard/core/flow"
	"lucidorchard/core/plural"
	"lucidorchard/database"
	"lucidorchard/jobs"
	"lucidorchard/model"
	"lucidorchard/refuse"
)

// EvidenceKept is evidence that was made.
type EvidenceKept struct {
	ID       int64     `db:"id"`
	Promise  string    `db:"promise"`
	From     time.Time `db:"from_at"`
	To       time.Time `db:"to_at"`
	Made     time.Time `db:"made"`
	Author   string    `db:"author"`
	Sentence string    `db:"sentence"`
	Schedule *int64    `db:"schedule"`
	Body     []byte    `db:"body"` // signed JSON
}

// EvidenceSchedule makes evidence by itself, when a month or a quarter is over.
type EvidenceSchedule struct {
	ID      int64      `db:"id"`
	Promise string     `db:"promise"`
	Every   string     `db:"every"`
	Author  string     `db:"author"`
	At      time.Time  `db:"at"`
	Problem string     `db:"problem"`
	Last    *time.Time `db:"last"`
}

// evidenceMade is the result of a job that makes evidence.
type evidenceMade struct {
	Evidence int64 `json:"evidence" doc:"Its number"`
}

// longestPeriod is how much evidence may speak of.
const longestPeriod = 400 * 24 * time.Hour

// MakeEvidence starts making evidence for a promise over a period of whole days; one that
// is not over yet ends now.
func (a *Service) MakeEvidence(ctx context.Context, m *model.Model, promise string, from, to time.Time) (jobs.Job,
	error) {
	promise, err := a.promise(m, promise)
	if err != nil {
		return jobs.Job{}, err
	}
	now := time.Now().UTC().Truncate(time.Microsecond)
	switch {
	case !from.Before(to):
		return jobs.Job{}, refuse.Invalid(
			"to: found a day before from; nothing was made. Say the first and the last day of the period")
	case !from.Before(now):
		return jobs.Job{}, refuse.Invalid("from: found a day that has not come yet; nothing was made")
	case to.Sub(from) > longestPeriod:
		return jobs.Job{}, refuse.Invalid(fmt.Sprintf("found a period of %s, expected at most 400; nothing was made",
			plural.Of(int(to.Sub(from).Hours()/24), "day")))
	}
	if to.After(now) {
		to = now
	}
	c := evidence.Case{Promise: promise, From: from, To: to, Made: now, By: a.Author}
	return a.StartStoring(ctx, "evidence", "Evidence for "+promise, func(ctx context.Context,
		progress func(float64, string)) (any, error) {
		id, err := a.makeEvidence(ctx, &c, nil, progress)
		return evidenceMade{id}, err
	})
}

// promise reads a promise: an assertion in one layout, or a group that there is.
func (a *Service) promise(m *model.Model, text string) (string, error) {
	if name, is := strings.CutPrefix(text, "group "); is {
		if m.Policy.Groups[name] == nil {
			return "", refuse.Missing("there is no group " + name + " in the draft; nothing was made")
		}
		return text, nil
	}
	if !strings.HasPrefix(strings.TrimSpace(text), "assert ") || strings.Contains(text, "\n") {
		return "", refuse.Invalid(
			fmt.Sprintf("promise: found %.80q, expected an assertion such as assert only a -> b on any, or group and its name; nothing was made", text))
	}
	sentence, errs := evidence.Read(m.Head.Text, text)
	if len(errs) > 0 {
		return "", refuse.Invalid("promise: " + errs[0].Message + "; nothing was made")
	}
	return sentence, nil
}

// recall puts a case together.
func (a *Service) recall(ctx context.Context, c *evidence.Case) error {
	m, err := a.Model(ctx)
	if err != nil {
		return err
	}
	if err := a.Store.Recall(ctx, c); err != nil {
		return err
	}
	if len(c.Drafts) == 0 {
		return refuse.Conflict("there is no policy yet; nothing was made. Write a draft, or import one")
	}
	c.Structural, c.Traffic = m.Structural, m.Table
	c.Seen = func(h flow.Hour) bool {
		_, seen := m.Hours[h]
		return seen
	}
	return nil
}

// makeEvidence makes and keeps what a case comes to.
func (a *Service) makeEvidence(ctx context.Context, c *evidence.Case, schedule *int64,
	progress func(float64, string)) (int64, error) {
	progress(0, "reading what was on record")
	if err := a.recall(ctx, c); err != nil {
		return 0, err
	}
	e, err := evidence.Make(ctx, c, func(done float64) {
		progress(0.1+0.85*done, "going through "+plural.Of(int(c.To.Sub(c.From).Hours()+23)/24, "day"))
	}, nil)
	var unreadable *evidence.UnreadableError
	if errors.As(err, &unreadable) {
		return 0, refuse.Invalid("the policy of that time does not know what is promised: " + unreadable.Error())
	}
	if err != nil {
		return 0, err
	}
	key, err := a.Store.SigningKey(ctx)
	if err != nil {
		return 0, err
	}
	body, err := evidence.Sign(e, key)
	if err != nil {
		return 0, err
	}
	progress(0.97, "keeping it")
	return a.Store.PutEvidence(ctx, &EvidenceKept{Promise: c.Promise, From: c.From, To: c.To, Made: c.Made,
		Author: c.By, Sentence: e.Sentence, Schedule: schedule,
		Body: body})
}

// Evidence returns evidence that was made, with what it says and the key that signed it, as
// long as it is what was signed.
func (a *Service) Evidence(ctx context.Context, id int64) (*EvidenceKept, *evidence.Evidence, ed25519.PublicKey,
	error) {
	kept, err := a.Store.EvidenceOf(ctx, id)
	if errors.Is(err, database.ErrNone) {
		return nil, nil, nil, refuse.Missing(fmt.Sprintf("there is no evidence %d", id))
	}
	if err != nil {
		return nil, nil, nil, err
	}
	e, key, err := evidence.Verify(kept.Body)
	if err != nil {
		return nil, nil, nil,
			refuse.Conflict(fmt.Sprintf(
				"evidence %d cannot be shown: %s. Make it anew, and look who has been at the database", id, err))
	}
	return kept, e, key, nil
}

// EvidenceInput writes the lines of an input of evidence, made again from what is on
// record now: they are the same as long as nothing of them was deleted or imported since.
func (a *Service) EvidenceInput(ctx context.Context, id int64, name string, to io.Writer) error {
	kept, _, _, err := a.Evidence(ctx, id)
	if err != nil {
		return err
	}
	c := evidence.Case{Promise: kept.Promise, From: kept.From.UTC(), To: kept.To.UTC(), Made: kept.Made.UTC(),
		By: kept.Author}
	if err := a.recall(ctx, &c); err != nil {
		return err
	}
	w := bufio.NewWriter(to)
	if _, err := evidence.Make(ctx, &c, func(float64) {}, func(input, text string) {
		if input == name {
			_, _ = w.WriteString(text)
			_ = w.WriteByte('\n')
		}
	}); err != nil {
		return err
	}
	return w.Flush()
}

// AddEvidenceSchedule lets evidence be made by itself.
func (a *Service) AddEvidenceSchedule(ctx context.Context, m *model.Model, promise, every string) (int64, error) {
	promise, err := a.promise(m, promise)
	if err != nil {
		return 0, err
	}
	id, err := a.Store.AddEvidenceSchedule(ctx, EvidenceSchedule{Promise: promise, Every: every, Author: a.Author})
	if errors.Is(err, database.ErrTaken) {
		return 0, refuse.Conflict("that is made every " + every + " already; nothing was changed")
	}
	return id, err
}

const (
	// scheduleLook is how often it is looked whether evidence is due.
	scheduleLook = time.Minute
	// late is how long after a period its last traffic may still come.
	late = time.Hour
)

// Run makes what schedules ask for, until ctx ends. Several servers may:
// each period is kept once.
func (a *Service) Run(ctx context.Context) {
	for {
		if err := a.MakeDue(ctx, time.Now()); err != nil && ctx.Err() == nil {
			a.Log.Warn("evidence that is due cannot be made", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(scheduleLook):
		}
	}
}

// MakeDue makes the evidence of all schedules whose period has ended by an instant.
func (a *Service) MakeDue(ctx context.Context, now time.Time) error {
	all, err := a.Store.EvidenceSchedules(ctx)
	if err != nil {
		return err
	}
	for i := range all {
		s := &all[i]
		from, to := LastPeriod(s.Every, now.Add(-late))
		if to.Before(s.At) || s.Last != nil && !s.Last.Before(from) {
			continue
		}
		c := evidence.Case{Promise: s.Promise, From: from, To: to, Made: now.UTC().Truncate(time.Microsecond),
			By: s.Author}
		_, err := a.Guarded(ctx, func(ctx context.Context, progress func(float64, string)) (any, error) {
			return a.makeEvidence(ctx, &c, &s.ID, progress)
		}, func(float64, string) {})
		problem := ""
		if err != nil {
			if ctx.Err() != nil {
				return err
			}
			problem = refuse.Words(err)
		}
		if err := a.Store.SayEvidenceProblem(ctx, s.ID, problem); err != nil {
			return err
		}
	}
	return nil
}

// LastPeriod returns the last month or quarter that was over at a time.
func LastPeriod(every string, now time.Time) (from, to time.Time) {
	months := 1
	if every == "quarter" {
		months = 3
	}
	now = now.UTC()
	first := time.Month(int(now.Month()-1)/months*months + 1)
	to = time.Date(now.Year(), first, 1, 0, 0, 0, 0, time.UTC)
	return to.AddDate(0, -months, 0), to
}
