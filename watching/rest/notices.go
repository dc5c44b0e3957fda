package rest

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"lucidorchard/notify"
	"lucidorchard/server"
	"lucidorchard/watching"
)

// destinationOut is where messages go; secrets are not told.
type destinationOut struct {
	Destination
	Settings notify.Settings `json:"settings"`
	Keeps    bool            `json:"keeps" doc:"It has a secret, or a password"`
}

// noticeOut is a notice, and whether it still can tell anything.
type noticeOut struct {
	Notice
	Problem string `json:"problem,omitempty" doc:"Why it can tell nothing any more"`
}

// noticesOut is who is told of what.
type noticesOut struct {
	Notices      []noticeOut      `json:"notices" doc:"The oldest first"`
	Destinations []destinationOut `json:"destinations" doc:"By name"`
	Kinds        []string         `json:"kinds" doc:"Of matters, that there may be"`
}

func (s *Watching) noticeRoutes(r server.Routes) {
	server.Get(r, "read-notices", "/watch/notices", "Who is told of what, and where messages go", s.notices)
	server.Post(r, "add-notice", "/watch/notices", "Notify somebody of matters or of traffic", s.addNotice,
		server.Creates, server.CanBeMissing)
	server.Put(r, "change-notice", "/watch/notices/{id}", "Change a notice, or pause it", s.changeNotice,
		server.CanBeMissing)
	server.Remove(r, "drop-notice", "/watch/notices/{id}", "Forget a notice", s.dropNotice, server.CanBeMissing)
	server.Put(r, "keep-destination", "/watch/destinations/{name}", "Say where messages go", s.putDestination)
	server.Remove(r, "drop-destination", "/watch/destinations/{name}", "Delete a destination and its queue",
		s.dropDestination, server.CanBeMissing)
	server.Post(r, "try-destination", "/watch/destinations/{name}/trial", "Send a trial", s.trial, server.CanBeMissing)
}

func (s *Watching) notices(ctx context.Context, _ *struct{}) (*server.Body[noticesOut], error) {
	out := noticesOut{Notices: []noticeOut{}, Destinations: []destinationOut{}, Kinds: watching.MatterKinds}
	m, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	notices, err := s.Notices(ctx)
	if err != nil {
		return nil, err
	}
	for _, n := range notices {
		problem, err := s.NoticeProblem(ctx, m, &n)
		if err != nil {
			return nil, err
		}
		out.Notices = append(out.Notices, noticeOut{newNotice(n), problem})
	}
	all, err := s.Destinations(ctx)
	if err != nil {
		return nil, err
	}
	for _, d := range all {
		o := destinationOut{Destination: newDestination(d)}
		if err := json.Unmarshal(d.Settings, &o.Settings); err != nil {
			return nil, err
		}
		o.Keeps = o.Settings.Secret+o.Settings.Password != ""
		o.Settings = o.Settings.Shown()
		out.Destinations = append(out.Destinations, o)
	}
	return server.OK(out), nil
}

// noticeIn is a notice as it is asked for.
type noticeIn struct {
	Kinds  []string   `json:"kinds,omitempty" maxItems:"50" doc:"Of matters; none: any"`
	Who    string     `json:"who,omitempty" maxLength:"10000" doc:"An expression that a client agrees with"`
	What   string     `json:"what,omitempty" maxLength:"10000" doc:"An expression that a server agrees with"`
	Matter string     `json:"matter,omitempty" maxLength:"100" doc:"Just this one, by its id"`
	Filter string     `json:"filter,omitempty" maxLength:"10000" doc:"All traffic that this filter of the ledger selects, as in an address; excludes kinds, who, what and matter"`
	Pace   string     `json:"pace" enum:"at once,hourly,daily"`
	To     []string   `json:"to" minItems:"1" maxItems:"50" doc:"Destinations"`
	Quiet  *quiet     `json:"quiet,omitempty"`
	Ends   *time.Time `json:"ends,omitempty"`
	Paused bool       `json:"paused,omitempty"`
}

// quiet is hours of the day in which nothing is sent.
type quiet struct {
	From  int `json:"from" minimum:"0" maximum:"1439" doc:"Minute of the day, UTC"`
	Until int `json:"until" minimum:"0" maximum:"1439" doc:"Minute of the day, UTC; before from: of the next day"`
}

func (in *noticeIn) notice(id int64) watching.Notice {
	n := watching.Notice{ID: id, Kinds: in.Kinds, Who: in.Who, What: in.What, Matter: in.Matter, Filter: in.Filter,
		Pace: in.Pace, To: in.To, Ends: in.Ends, Paused: in.Paused}
	if in.Quiet != nil {
		n.From, n.Until = &in.Quiet.From, &in.Quiet.Until
	}
	return n
}

// noticeMade is the number of a new notice.
type noticeMade struct {
	ID int64 `json:"id"`
}

func (s *Watching) addNotice(ctx context.Context, in *struct{ Body noticeIn }) (*server.Made[noticeMade], error) {
	id, err := s.putNotice(ctx, in.Body.notice(0))
	if err != nil {
		return nil, err
	}
	return &server.Made[noticeMade]{Location: fmt.Sprintf("%s/watch/notices/%d", server.Version, id),
		Body: noticeMade{id}}, nil
}

func (s *Watching) changeNotice(ctx context.Context, in *struct {
	ID   int64 `path:"id" minimum:"1"`
	Body noticeIn
}) (*struct{}, error) {
	_, err := s.putNotice(ctx, in.Body.notice(in.ID))
	return nil, err
}

func (s *Watching) putNotice(ctx context.Context, n watching.Notice) (int64, error) {
	m, err := s.Snapshot(ctx)
	if err != nil {
		return 0, err
	}
	return s.PutNotice(ctx, m, n)
}

func (s *Watching) dropNotice(ctx context.Context, in *struct {
	ID int64 `path:"id" minimum:"1"`
}) (*struct{}, error) {
	return nil, s.DropNotice(ctx, in.ID)
}

// destinationName is that of the path.
type destinationName struct {
	Name string `path:"name" maxLength:"100"`
}

func (s *Watching) putDestination(ctx context.Context, in *struct {
	Name string `path:"name" maxLength:"100"`
	Body notify.Settings
}) (*struct{}, error) {
	return nil, s.PutDestination(ctx, in.Name, in.Body)
}

func (s *Watching) dropDestination(ctx context.Context, in *destinationName) (*struct{}, error) {
	return nil, s.DropDestination(ctx, in.Name)
}

func (s *Watching) trial(ctx context.Context, in *destinationName) (*struct{}, error) {
	return nil, s.Trial(ctx, in.Name)
}
