package rest

import (
	"bytes"

	// Files for devices that we cannot talk to: they fetch what to hold, or only the
	// members of groups.
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"net/http"
	"strings"
	"time"

	"lucidorchard/core/plan/acl"
	"lucidorchard/core/plan/k8s"
	"lucidorchard/core/plan/nft"
	"lucidorchard/point"
	"lucidorchard/refuse"
	"lucidorchard/server"
)

// DeviceFile is a file with what tells its versions apart.
type DeviceFile struct {
	Status  int
	Type    string   `header:"Content-Type"`
	Tag     string   `header:"ETag" doc:"Another when the file is another"`
	Cannot  []string `header:"Warning" doc:"What the format cannot say"`
	Caching string   `header:"Cache-Control"`
	Body    []byte
}

// Cached is what a device has already.
type Cached struct {
	Tag string `header:"If-None-Match" doc:"The ETag of its copy: the answer is 304 while that is current"`
}

// file answers with a text, or that it is the one that the device has.
func (h *Cached) file(kind, text string, cannot []string) *DeviceFile {
	sum := sha256.Sum256([]byte(text))
	out := &DeviceFile{Status: http.StatusOK, Type: kind, Tag: `"` + hex.EncodeToString(sum[:16]) + `"`,
		Body:    []byte(text),
		Caching: "no-cache"}
	for _, c := range cannot {
		out.Cannot = append(out.Cannot, `299 - "`+strings.ReplaceAll(c, `"`, "'")+`"`)
	}
	if h.Tag == out.Tag {
		out.Status, out.Body = http.StatusNotModified, nil
	}
	return out
}

// render writes what a point is to run in a format. Formats that know no trial have the
// enforced release.
func render(t *point.Instructions, format string) (kind, text string, cannot []string, err error) {
	var raw []byte
	l := t.Loaded()
	switch {
	case l.Nothing():
		kind, text = "text/plain; charset=utf-8", "# no release is ordered\n"
		if format == "json" || format == "acl" || format == "k8s" {
			kind, text = "application/json", "{}\n"
		}
		return kind, text, nil, nil
	case l.Enforced == nil && (format == "acl" || format == "k8s"):
		return "", "", nil, refuse.Conflict("format: " + format +
			" cannot observe: a device enforces what it loads. Order the point to enforce, or fetch nft")
	case format == "acl":
		d, not := acl.Of(l.Enforced)
		raw, err = d.Text()
		return "application/yang-data+json", string(raw) + "\n", append(not, acl.Notes...), err
	case format == "k8s":
		list, not := k8s.Of(l.Enforced)
		raw, err = list.Text()
		return "application/json", string(raw) + "\n", append(not, k8s.Notes...), err
	case format == "json":
		raw, err = json.MarshalIndent(l.Deciding(), "", "  ")
		return "application/json", string(raw) + "\n", nil, err
	}
	var b bytes.Buffer
	err = nft.WriteLoaded(&b, l, nft.Options{Paired: t.Paired, Note: "Lucid Orchard: " + t.Runs().String()})
	return "text/plain; charset=utf-8", b.String(), nil, err
}

func (s *Releases) deviceFile(ctx context.Context, in *struct {
	Cached
	Format string `query:"format" enum:"nft,acl,k8s,json" default:"nft" doc:"acl: RFC 8519; k8s: NetworkPolicy"`
}) (*DeviceFile, error) {
	p, err := s.asking(ctx)
	if err != nil {
		return nil, err
	}
	t, err := s.toldTo(ctx, p.Name)
	if err != nil {
		return nil, err
	}
	kind, text, cannot, err := render(t, in.Format)
	if err != nil {
		return nil, err
	}
	out := in.file(kind, text, cannot)
	if p.Kind != "file" {
		return out, nil
	}
	// What it has already is what it holds; else it holds this as soon as it has it.
	runs := t.Runs()
	said := point.Status{ID: t.ID, Enforces: runs.Enforces, Observes: runs.Observes, Estate: t.Estate, State: "holds"}
	if out.Status != http.StatusNotModified {
		said.Events = []point.Event{{At: time.Now().UTC(), What: "applied", Words: runs.String() + ", fetched as " +
			in.Format,
			Enforces: runs.Enforces, Observes: runs.Observes}}
	}
	return out, s.Heard(ctx, p, said)
}

// deviceGroup returns the members of a group as a list of prefixes, a line each.
func (s *Releases) deviceGroup(ctx context.Context, in *struct {
	Cached
	Name string `path:"name" doc:"Of a group of the point's release"`
}) (*DeviceFile, error) {
	p, err := s.asking(ctx)
	if err != nil {
		return nil, err
	}
	m, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	prefixes, err := s.GroupPrefixes(m, p, in.Name)
	if err != nil {
		return nil, err
	}
	var b strings.Builder
	for _, x := range prefixes {
		b.WriteString(x.String() + "\n")
	}
	return in.file("text/plain; charset=utf-8", b.String(), nil), nil
}

// running compares what somebody pasted of a device with what it is to hold.
func (s *Releases) running(ctx context.Context, in *struct {
	Name string `path:"name"`
	Body struct {
		Text   string `json:"text" minLength:"1" maxLength:"20000000" doc:"As the device prints it"`
		Format string `json:"format,omitempty" enum:"nft,acl,k8s,json" default:"nft"`
	}
}) (*server.Body[Running], error) {
	t, err := s.toldTo(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	_, want, _, err := render(t, in.Body.Format)
	if err != nil {
		return nil, err
	}
	out := Running{Missing: []string{}, Extra: []string{}}
	missing, extra := point.CompareText(want, in.Body.Text)
	out.Missing, out.Extra = append(out.Missing, missing...), append(out.Extra, extra...)
	out.Same = len(missing)+len(extra) == 0
	return server.OK(out), s.HeardOfDevice(ctx, in.Name, t, missing, extra)
}

// Running is in what a device holds something else than it is to hold.
type Running struct {
	Same    bool     `json:"same"`
	Missing []string `json:"missing" doc:"Lines that it should have"`
	Extra   []string `json:"extra" doc:"Lines that it should not"`
}
