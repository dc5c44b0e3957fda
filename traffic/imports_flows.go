package traffic

import (
	"cmp"

	// Flows from files.
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/plural"
	"lucidorchard/imports"
	"lucidorchard/ingest"
	"lucidorchard/jobs"
	"lucidorchard/model"
	"lucidorchard/refuse"
)

// readFlows reads a file of traffic, of any format, and returns its records one by
// one.
func (a *Service) readFlows(ctx context.Context, snap *model.Model, from *imports.File, in imports.ImportOptions,
	preview bool,
	progress func(share float64, rows int), emit func(*flow.Joined) error) (imports.ImportReport, error) {
	out := imports.ImportReport{Errors: []ingest.RowError{}, Warnings: []string{}, Examples: []imports.ImportExample{},
		NewWords: []string{}}
	unusable := func(err error) error {
		return refuse.Invalid("the file cannot be used: " + err.Error())
	}
	var first, last estate.Instant
	records := 0
	o := ingest.TrafficOptions{Directions: in.Directions, Carriers: in.Carriers, Name: in.Name, Accept: in.Accept,
		Progress: func(share float64, rows int) error {
			progress(share, rows)
			return ctx.Err()
		}, Emit: func(r *flow.Joined) error {
			if records == 0 || r.Start.Before(first) {
				first = r.Start
			}
			if records == 0 || last.Before(r.Start) {
				last = r.Start
			}
			records++
			if snap.Estate.At(r.Client, r.Start).Workload == estate.Outside ||
				snap.Estate.At(r.Server, r.Start).Workload == estate.Outside {
				out.Outside++
			}
			if r.Confidence < flow.Sure {
				out.Unsure++
			}
			return emit(r)
		}}
	f, err := from.Open()
	if err != nil {
		return out, err
	}
	defer f.Close()
	out.FileFormat = string(ingest.FormatOf(from.Head))
	look, err := a.flowTable(ctx, from, in)
	if err != nil {
		return out, err
	}
	if look != nil {
		o.Form = look.Form
		out.Headings, out.First, out.Form, out.Words = look.Headings, look.First, &look.Form, look.Words()
		for _, h := range look.Headings {
			if o.Form.Columns[h] == "" {
				out.Warnings = append(out.Warnings, fmt.Sprintf("column %q is not known and was ignored", h))
			}
		}
	}
	file, err := ingest.ReadTraffic(f, from.Size, o)
	var spill *spillError
	switch {
	case err != nil && ctx.Err() != nil:
		return out, ctx.Err()
	case err != nil && preview && out.Headings != nil:
		out.Unusable = err.Error()
		return out, nil
	case errors.As(err, &spill):
		return out, err
	case err != nil:
		return out, unusable(err)
	}
	out.Rows, out.Bad, out.Errors, out.BadKinds = file.Rows, file.Bad, file.Errors, file.Kinds
	out.Questions, out.Held, out.Carried = file.Questions, file.Held, file.Carried
	out.Warnings = append(out.Warnings, file.Warnings...)
	if records > 0 {
		out.From, out.To = first.String(), last.String()
	}
	return out, nil
}

// PreviewFlows reports what importing a file of traffic would do.
func (a *Service) PreviewFlows(ctx context.Context, m *model.Model, file *imports.File,
	o imports.ImportOptions) (imports.ImportReport, error) {
	if file.Size == 0 {
		return imports.ImportReport{}, errEmpty
	}
	hours := newDistinct(m.Turned)
	report, err := a.readFlows(ctx, m, file, o, true, func(float64, int) {}, hours.Add)
	if err != nil {
		return report, err
	}
	report.Added = hours.count()
	if hours.Over {
		report.Warnings = append(report.Warnings,
			fmt.Sprintf("the file has more than %d conversation-hours; they are counted when it is imported",
				mostDistinct))
	}
	return report, nil
}

var errEmpty = refuse.Invalid("the file cannot be used: it is empty")

// ImportFlows starts importing a file of traffic, which belongs to it from now on.
func (a *Service) ImportFlows(ctx context.Context, m *model.Model, file *imports.File,
	o imports.ImportOptions) (jobs.Job, error) {
	if err := a.readable(ctx, file, o); err != nil {
		file.Close()
		return jobs.Job{}, err
	}
	job, err := a.StartStoring(ctx, "import-flows", "Import flows",
		func(ctx context.Context, progress func(float64, string)) (any, error) {
			defer file.Close()
			return a.storeFlows(ctx, m, file, o, progress)
		})
	if err != nil {
		file.Close()
	}
	return job, err
}

// flowTable looks at how a table of flows is written; nil if the file is none.
func (a *Service) flowTable(ctx context.Context, file *imports.File, in imports.ImportOptions) (*ingest.Look, error) {
	switch ingest.FormatOf(file.Head) {
	case ingest.TrafficIPFIX, ingest.TrafficCapture, ingest.TrafficForeign:
		return nil, nil
	}
	look, err := imports.Beginning(file, in.Form)
	if err != nil {
		return nil, err
	}
	if look.JSON && look.Form.Pointer == "-" && len(in.Form.Columns) == 0 && ingest.OwnFlows(look.Headings) {
		return nil, nil // our own JSON Lines
	}
	var before ingest.Form
	if err := a.Store.Setting(ctx, "flow form", &before); err != nil {
		return nil, err
	}
	guess := ingest.GuessFlows
	if own := ingest.ExportForm(file.Head, "flows"); own != nil {
		guess, before.Columns = func(headings []string) ingest.Mapping { return own.Only(headings) }, nil
	}
	imports.Columns(look, guess, before.Columns)
	look.Form.Zone = cmp.Or(look.Form.Zone, before.Zone)
	for word, as := range before.Outcomes { // remembered, until it is said otherwise
		if look.Form.Outcomes[word] == "" {
			look.Form.Outcomes = with(look.Form.Outcomes, word, as)
		}
	}
	for word, as := range before.Protocols {
		if look.Form.Protocols[word] == "" {
			look.Form.Protocols = with(look.Form.Protocols, word, as)
		}
	}
	return look, nil
}

func with(m map[string]string, key, value string) map[string]string {
	if m == nil {
		m = map[string]string{}
	}
	m[key] = value
	return m
}

// readable says at once why a file cannot be used, where its beginning tells.
func (a *Service) readable(ctx context.Context, file *imports.File, o imports.ImportOptions) error {
	if file.Size == 0 {
		return errEmpty
	}
	look, err := a.flowTable(ctx, file, o)
	if err != nil || look == nil {
		return err
	}
	if err := ingest.Usable(look.Headings, look.Form.Columns); err != nil {
		return refuse.Invalid("the file cannot be used: " + err.Error())
	}
	return nil
}

// storeFlows reads a file of traffic into parts on the disk, and stores them meanwhile, all
// together.
func (a *Service) storeFlows(ctx context.Context, snap *model.Model, from *imports.File, in imports.ImportOptions,
	progress func(float64, string)) (any, error) {
	number, err := a.Store.NewFile(ctx)
	if err != nil {
		return nil, err
	}
	parts, err := newSpill(filepath.Dir(from.Path), number, snap.Turned)
	if err != nil {
		return nil, err
	}
	defer parts.Close()
	var report imports.ImportReport
	pace := newPace(progress)
	read := make(chan error, 1)
	reading, unread := context.WithCancel(ctx)
	defer unread()
	go func() {
		_, err := a.Guarded(reading, func(ctx context.Context, _ func(float64, string)) (any, error) {
			var err error
			report, err = a.readFlows(ctx, snap, from, in, false, pace.read, parts.Add)
			return nil, err
		}, progress)
		parts.End(err)
		read <- err
	}()
	// Whoever else stores traffic waits for this: it begins while the file is read only where
	// reading keeps pace with storing.
	parts.Wait(false)
	if slow := time.Since(pace.began) > time.Second; slow {
		pace.first()
		parts.Wait(true)
	}
	added, err := a.Store.AddFile(ctx, "file "+from.Sum, number, parts.Parts(), pace.stored,
		strings.TrimSpace("Import flows "+in.Name), a.Author)
	if err != nil {
		unread()
		if failed := <-read; failed != nil && !errors.Is(failed, context.Canceled) {
			err = failed // why nothing was stored
		}
		return nil, err
	}
	if err := <-read; err != nil { // the file was counted before: nothing of it was waited for
		return nil, err
	}
	report.Added = int(added.Hours)
	if report.Form != nil {
		if err := a.Store.Set(ctx, "flow form", report.Form); err != nil {
			// The traffic is stored; only what its headings are has to be said again.
			report.Warnings = append(report.Warnings, "the meaning of the headings could not be saved: "+err.Error())
		}
	}
	if added.Before != nil {
		report.Already, report.Added = added.Before.UTC().Format(time.RFC3339), 0
	}
	a.Models.Hurry()
	return report, nil
}

// pace estimates the progress of an import, and when it will be done, from what is stored, of
// what the share of the file that is read lets expect.
type pace struct {
	tell  func(float64, string)
	began time.Time

	mu      sync.Mutex
	share   float64 // of the file that is read
	rows    int     // that were read of it
	alone   bool    // it is read before anything is stored
	reading time.Duration
	is      Storing
	done    float64
}

func newPace(tell func(float64, string)) *pace { return &pace{tell: tell, began: time.Now()} }

func (p *pace) read(share float64, rows int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.share, p.rows, p.reading = share, rows, time.Since(p.began)
	p.say()
}

// first notes that nothing is stored before all is read.
func (p *pace) first() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.alone = true
}

func (p *pace) stored(is Storing) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if is.Records < p.is.Records {
		p.done = 0 // the database went away: it begins anew
	}
	p.is = is
	p.say()
}

// What storing a conversation-hour takes, and what indexing a record with its hour takes,
// if storing a record takes 1.
const (
	hourCost  = 0.2
	indexCost = 0.25
	// recordTime is about what that 1 is: it matters only where reading takes longer.
	recordTime = 8 * time.Microsecond
)

func (p *pace) say() {
	if p.share <= 0 {
		return
	}
	expected := max(float64(p.rows)/p.share, float64(p.is.Records), 1)
	all := expected * (1 + indexCost + hourCost*float64(p.is.MostHours)/float64(max(1, p.is.Records)))
	is := float64(p.is.Records) + hourCost*float64(p.is.Hours) + indexCost*expected*p.is.Indexed
	if p.alone {
		read := float64(p.reading) / float64(recordTime)
		is, all = is+read, all+read/p.share
	}
	p.done = min(max(p.done, is/all), 0.99)
	words := plural.Of(p.rows, "row") + " read"
	if p.is.Records > 0 {
		words = plural.Of(p.is.Records, "record") + " stored"
	}
	if spent := time.Since(p.began).Seconds(); p.done > 0.03 && spent > 1 {
		words += fmt.Sprintf(", about %.0f s left", max(1, spent*(1-p.done)/p.done))
	}
	p.tell(p.done, words)
}
