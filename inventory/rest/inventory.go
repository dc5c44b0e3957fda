package rest

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/core/estate"
	"lucidorchard/imports"
	"lucidorchard/ingest"
	"lucidorchard/inventory"
	"lucidorchard/server"
)

// ListingOut is what became of a listing that a script sent.
type ListingOut struct {
	Source  string            `json:"source"`
	Rows    int               `json:"rows"`
	Taken   int               `json:"taken" doc:"Workloads that were taken from it"`
	Changed int               `json:"changed" doc:"Workloads that changed; 0 for a listing without changes"`
	Retired []string          `json:"retired" doc:"Of a complete list: workloads that nobody lists any more"`
	Bad     int               `json:"bad" doc:"Rows that cannot be used; the others were taken"`
	Errors  []ingest.RowError `json:"errors" doc:"The first of them"`
}

// TokenOut is a new token with its secret, which is shown only once.
type TokenOut struct {
	Token
	Secret string `json:"secret"`
}

// disagreement is a tag on which sources disagree.
type disagreement struct {
	Workload string        `json:"workload"`
	Name     string        `json:"name"`
	Key      string        `json:"key"`
	Values   []SourceValue `json:"values" doc:"The one that counts first"`
}

// DisagreementList is a page of disagreements.
type DisagreementList struct {
	Total         int            `json:"total"`
	Disagreements []disagreement `json:"disagreements"`
}

// Sources answers about inventory sources and their scripts.
type Sources struct {
	*server.Kit
	*answers.Desk
	*inventory.Service
	Known func(context.Context)
}

func (s *Sources) Routes(r server.Routes) {
	server.Post(r, "take-listing", server.Listing, "Store the list of a source; for scripts, with a token",
		s.takeListing, server.NeedsToken,
		server.TakesFile("application/json", "application/x-ndjson", "text/csv"),
		func(o *huma.Operation) {
			o.Description = "The body is JSON ({\"workloads\": […]}), JSON Lines (application/x-ndjson) or CSV " +
				"(text/csv). The same listing twice changes nothing."
		})
	server.Get(r, "list-sources", "/sources", "The sources of workloads, the one whose values win first", s.sources)
	server.Put(r, "rank-sources", "/sources", "Say whose values win", s.rankSources)
	server.Get(r, "list-disagreements", "/disagreements", "Tags on which sources disagree",
		s.disagreements)
	server.Get(r, "list-tokens", "/tokens", "The tokens of scripts, without their secrets", s.tokens)
	server.Get(r, "read-token", "/tokens/{id}", "A token, without its secret", s.oneToken, server.CanBeMissing)
	server.Post(r, "add-token", "/tokens", "Create a token for a script; its secret is shown only once", s.addToken,
		server.Creates)
	server.Remove(r, "revoke-token", "/tokens/{id}", "Take a token back", s.revokeToken, server.CanBeMissing)
	server.Get(r, "export-disagreements", "/disagreements.csv", "The disagreements of sources as CSV",
		s.exportDisagreements)
}

func (s *Sources) takeListing(ctx context.Context, in *struct {
	ContentType string `header:"Content-Type"`
	Complete    bool   `query:"complete" doc:"This is all that the source lists: what it listed before and is missing is retired"`
	Confirm     int    `query:"confirm" minimum:"0" doc:"Confirms a complete list that lacks more than a tenth of the workloads of its source: the number of missing workloads"`
	server.Sent
}) (*server.Body[ListingOut], error) {
	token, ok := server.TokenOf(ctx)
	if !ok {
		return nil, huma.Error401Unauthorized("found no token")
	}
	sent, err := s.Receive(ctx, &in.Sent, server.MostWorkloads)
	if err != nil {
		return nil, err
	}
	defer sent.Close()
	f, err := sent.Open()
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var file *ingest.WorkloadFile
	kind, _, _ := strings.Cut(in.ContentType, ";")
	switch strings.TrimSpace(kind) {
	case "application/x-ndjson", "application/jsonl", "application/jsonlines":
		file, err = ingest.WorkloadLines(f, token.Source)
	case "text/csv":
		file, err = ingest.WorkloadsOf(f, token.Source, ingest.Form{})
	case "application/json":
		var all struct {
			Workloads *[]ingest.WorkloadJSON `json:"workloads"`
		}
		d := json.NewDecoder(f)
		d.DisallowUnknownFields()
		if bad := d.Decode(&all); bad != nil {
			return nil, huma.Error422UnprocessableEntity(`found ` + strings.TrimPrefix(bad.Error(), "json: ") +
				`, expected {"workloads": [{"id": "…", "addresses": ["…"], "tags": {"env": "…"}}]}; nothing was taken`)
		}
		if all.Workloads == nil {
			return nil, huma.Error422UnprocessableEntity("found no workloads, expected a list, possibly empty; " +
				"nothing was stored")
		}
		file = ingest.WorkloadObjects(*all.Workloads, token.Source)
	default:
		return nil, huma.Error415UnsupportedMediaType("found the content type " + in.ContentType +
			", expected application/json, application/x-ndjson or text/csv")
	}
	if err != nil {
		return nil, huma.Error422UnprocessableEntity("the listing cannot be used: " + err.Error())
	}
	if in.Complete && len(file.Errors) > 0 {
		// What cannot be read would be retired.
		return nil, huma.Error422UnprocessableEntity("some rows of the complete list are unusable and would count " +
			"as missing; nothing was stored. The first: " + file.Errors[0].Error())
	}
	taken, err := s.Take(ctx, inventory.Listing{Source: token.Source, Keys: file.Keys, Workloads: file.Workloads,
		Complete: in.Complete, Confirm: in.Confirm, Author: token.Name})
	if err != nil {
		return nil, err
	}
	for _, c := range taken.Conflicts {
		file.Errors = append(file.Errors, ingest.RowError{Column: "addresses", Reason: c.Error()})
	}
	out := ListingOut{Source: token.Source, Rows: file.Rows, Taken: len(file.Workloads), Changed: taken.Changed,
		Retired: taken.Retired, Bad: len(file.Errors), Errors: append([]ingest.RowError{},
			file.Errors[:min(imports.ShownErrors, len(file.Errors))]...)}
	if out.Retired == nil {
		out.Retired = []string{}
	}
	if taken.Changed > 0 {
		s.Known(ctx)
	}
	return server.OK(out), nil
}

func (s *Sources) sources(ctx context.Context, in *struct{ server.All }) (*server.List[Source], error) {
	all, err := s.Sources(ctx)
	if err != nil {
		return nil, err
	}
	return server.Cut(ctx, server.Each(all, newSource), in.All), nil
}

func (s *Sources) rankSources(ctx context.Context, in *struct {
	Body struct {
		Names []string `json:"names" doc:"All sources, the one whose values win first"`
	}
}) (*server.List[Source], error) {
	all, err := s.Sources(ctx)
	if err != nil {
		return nil, err
	}
	for _, have := range all {
		if !slices.Contains(in.Body.Names, have.Name) {
			return nil, huma.Error409Conflict("the source " + have.Name +
				" is missing from the order; somebody may have added it: load the sources again")
		}
	}
	if err := s.RankSources(ctx, in.Body.Names); err != nil {
		return nil, err
	}
	s.Models.Nudge()
	return s.sources(ctx, &struct{ server.All }{server.Everything})
}

func (s *Sources) disagreements(ctx context.Context, in *struct {
	Offset int `query:"offset" minimum:"0"`
	Limit  int `query:"limit" minimum:"1" maximum:"10000" default:"200"`
}) (*server.Body[DisagreementList], error) {
	snap, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	said, total, err := s.Disagreements(ctx, in.Offset, in.Limit)
	if err != nil {
		return nil, err
	}
	out := DisagreementList{Total: total, Disagreements: []disagreement{}}
	for _, v := range said {
		last := len(out.Disagreements) - 1
		if last < 0 || out.Disagreements[last].Workload != v.Workload || out.Disagreements[last].Key != v.Key {
			d := disagreement{Workload: v.Workload, Name: v.Workload, Key: v.Key}
			if i, ok := snap.Estate.ByID(v.Workload); ok {
				d.Name = snap.Estate.Workload(i).Label()
			}
			out.Disagreements = append(out.Disagreements, d)
			last++
		}
		out.Disagreements[last].Values = append(out.Disagreements[last].Values, newSourceValue(v))
	}
	return server.OK(out), nil
}

func (s *Sources) tokens(ctx context.Context, in *struct{ server.All }) (*server.List[Token], error) {
	all, err := s.Tokens(ctx)
	if err != nil {
		return nil, err
	}
	return server.Cut(ctx, server.Each(all, func(t inventory.Token) Token { return Token(t) }), in.All), nil
}

func (s *Sources) addToken(ctx context.Context, in *struct {
	Body struct {
		Name    string `json:"name" minLength:"1" maxLength:"100" doc:"Of the script"`
		Source  string `json:"source,omitempty" maxLength:"100" doc:"The source that it feeds"`
		Release bool   `json:"releases,omitempty" doc:"It may release policies, and feeds nothing"`
	}
}) (*server.Made[TokenOut], error) {
	if in.Body.Source == estate.ByHand {
		return nil, huma.Error422UnprocessableEntity("source: the name “by hand” is reserved for values that people " +
			"set; choose another name")
	}
	if (in.Body.Source == "") != in.Body.Release {
		return nil, huma.Error422UnprocessableEntity(
			"source, releases: found both or neither, expected the source that the " +
				"token feeds, or that it may release")
	}
	raw := make([]byte, 32)
	_, _ = rand.Read(raw) // never fails
	secret := "lo_" + base64.RawURLEncoding.EncodeToString(raw)
	t, err := s.AddToken(ctx, inventory.Token{Name: in.Body.Name, Source: in.Body.Source, Release: in.Body.Release,
		Author: s.Service.Author}, secret)
	if err != nil {
		return nil, err
	}
	s.Service.Events.Changed()
	return &server.Made[TokenOut]{Location: fmt.Sprintf("%s/tokens/%d", server.Version, t.ID),
		Body: TokenOut{Token(t), secret}}, nil
}

func (s *Sources) revokeToken(ctx context.Context, in *struct {
	ID int64 `path:"id"`
}) (*struct{}, error) {
	found, err := s.RevokeToken(ctx, in.ID)
	if err == nil && !found {
		return nil, huma.Error404NotFound(fmt.Sprintf("there is no token %d", in.ID))
	}
	s.Service.Events.Changed()
	return nil, err
}

func (s *Sources) oneToken(ctx context.Context, in *struct {
	ID int64 `path:"id"`
}) (*server.Body[Token], error) {
	all, err := s.Tokens(ctx)
	if err != nil {
		return nil, err
	}
	for _, t := range all {
		if t.ID == in.ID {
			return server.OK(Token(t)), nil
		}
	}
	return nil, huma.Error404NotFound(fmt.Sprintf("there is no token %d", in.ID))
}

func (s *Sources) exportDisagreements(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
	said, _, err := s.Disagreements(ctx, 0, 1_000_000)
	if err != nil {
		return nil, err
	}
	return server.StreamCSV("disagreements.csv", func(w *ingest.CSV) {
		_ = w.Write([]string{"id", "key", "source", "value", "author", "at"})
		for _, v := range said {
			_ = w.Write([]string{v.Workload, v.Key, v.Source, v.Value, v.Author, v.At.UTC().Format(time.RFC3339)})
		}
	}), nil
}
