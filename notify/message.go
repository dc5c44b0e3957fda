// Package notify carries messages to where people, and other programs, read them:
// syslog, webhooks and mail. A message that was taken is one that the other side has
// read, as far as its protocol tells.
//
// It must not know of databases or screens. Start reading at Sender.
package notify

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/mail"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// Message is what is told.
type Message struct {
	ID      string    `json:"id"` // the same when it is sent again
	At      time.Time `json:"at"`
	Kind    string    `json:"kind"`  // of the matter; trial, or summary
	Title   string    `json:"title"` // a sentence
	Why     string    `json:"why,omitempty"`
	Who     string    `json:"who,omitempty"`
	What    string    `json:"what,omitempty"`
	Verdict string    `json:"verdict,omitempty"`
	Line    int       `json:"line,omitempty"` // of the rule that decides
	Release int       `json:"release,omitempty"`
	Point   string    `json:"point,omitempty"`
	Matter  string    `json:"matter,omitempty"` // its id
	Times   int64     `json:"times"`            // how often it happened
	// Of all that happened on its day, how much was carried and dropped, where that is known.
	Carried int64     `json:"carried,omitempty"`
	Dropped int64     `json:"dropped,omitempty"`
	First   time.Time `json:"first"`
	Last    time.Time `json:"last"`
	Link    string    `json:"link,omitempty"`
	// Of a summary: what it sums up.
	Parts []Message `json:"parts,omitempty"`
}

// Settings say where messages go, and how.
type Settings struct {
	Kind string `json:"kind" enum:"syslog,webhook,mail"`
	// Address is host:port of a syslog receiver or mail server, or the URL of a webhook.
	Address   string   `json:"address" doc:"host:port of a syslog receiver or mail server, or the URL of a webhook" maxLength:"2000"`
	Transport string   `json:"transport,omitempty" enum:",udp,tcp,tls" doc:"Of syslog"`
	CA        string   `json:"ca,omitempty" doc:"Certificates that the other side's is checked by, PEM; none: the system's" maxLength:"100000"`
	Secret    string   `json:"secret,omitempty" doc:"Of a webhook: the key of HMAC-SHA-256. It is never returned" maxLength:"1000"`
	From      string   `json:"from,omitempty" doc:"Of mail" maxLength:"300"`
	To        []string `json:"to,omitempty" doc:"Of mail" maxItems:"50"`
	User      string   `json:"user,omitempty" doc:"Of mail, or of a webhook" maxLength:"300"`
	Password  string   `json:"password,omitempty" doc:"Of the user. It is never returned" maxLength:"1000"`
	Plain     bool     `json:"plain,omitempty" doc:"Of mail: send also where the server offers no encryption"`
}

// Check reports what is wrong with settings; nil: nothing.
func (s *Settings) Check() error {
	switch s.Kind {
	case "webhook":
		u, err := url.Parse(s.Address)
		if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
			return fmt.Errorf("address: found %q, expected a URL such as https://duty.example/hook", s.Address)
		}
		if u.User != nil {
			return errors.New("address: found a user in the URL; use the fields user and password instead")
		}
		if s.Secret == "" {
			return errors.New("secret: found nothing, expected a key with which the receiver verifies messages")
		}
	case "syslog":
		if s.Transport == "" {
			return errors.New("transport: found nothing, expected udp, tcp or tls")
		}
		return checkHost(s.Address, "514")
	case "mail":
		if err := checkHost(s.Address, "587"); err != nil {
			return err
		}
		if len(s.To) == 0 {
			return errors.New("to: found no address, expected at least one")
		}
		for _, x := range append([]string{s.From}, s.To...) {
			if a, err := mail.ParseAddress(x); err != nil || a.Address != x {
				return fmt.Errorf("found %q, expected a mail address such as duty@saltmarsh.example", x)
			}
		}
	default:
		return fmt.Errorf("kind: found %q, expected syslog, webhook or mail", s.Kind)
	}
	return nil
}

// Within returns why messages may not go to the address of settings, if it is written as one;
// what a name leads to is looked at when it is used.
func (s *Settings) Within(r Reach) error {
	host, _, err := net.SplitHostPort(s.Address)
	if s.Kind == "webhook" {
		u, bad := url.Parse(s.Address)
		if bad != nil {
			return bad
		}
		host, err = u.Hostname(), nil
	}
	addr, bad := netip.ParseAddr(host)
	if err != nil || bad != nil {
		return nil
	}
	if refused := r.Refuse(addr); refused != nil {
		return fmt.Errorf("address: found %s", refused)
	}
	return nil
}

// Shown returns settings as they may be shown: without what is secret in them.
func (s Settings) Shown() Settings {
	s.Secret, s.Password = "", ""
	// from before it was refused
	if u, err := url.Parse(s.Address); s.Kind == "webhook" && err == nil && u.User != nil {
		u.User = nil
		s.Address = u.String()
	}
	return s
}

func checkHost(address, usual string) error {
	host, port, err := net.SplitHostPort(address)
	n, bad := strconv.Atoi(port)
	if err != nil || host == "" || bad != nil || n < 1 || n > 65535 {
		return fmt.Errorf("address: found %q, expected host:port such as logbook-01:%s", address, usual)
	}
	return nil
}

// Sender sends to one destination. It is safe for concurrent use.
type Sender struct {
	Settings
	Reach Reach
	Host  string // by which this machine calls itself
}

// RefusedError is that a destination takes others, but not this message.
type RefusedError struct{ Words string }

func (e *RefusedError) Error() string { return e.Words }

// patience is for how long a destination may be busy with what is sent at once.
const patience = 10 * time.Second

// Send sends messages in order, and says for each why it was not taken; nil: it was. A
// *RefusedError is about that message alone; after another error those behind it were not
// tried.
func (s *Sender) Send(ctx context.Context, list []Message) []error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	out := make([]error, len(list))
	var send func(m *Message) error
	var done func() error
	switch s.Kind {
	case "syslog":
		if err := s.syslog(ctx, list); err != nil {
			fill(out, err)
		}
		return out
	case "webhook":
		client, err := s.client()
		if err != nil {
			fill(out, err)
			return out
		}
		send = func(m *Message) error { return s.webhook(ctx, client, m) }
		done = func() error { client.CloseIdleConnections(); return nil }
	case "mail":
		c, err := s.mail(ctx)
		if err != nil {
			fill(out, err)
			return out
		}
		defer c.Close()
		send = func(m *Message) error { return s.one(c, m) }
		done = c.Quit
	default:
		fill(out, fmt.Errorf("there is no way to send to a %s", s.Kind))
		return out
	}
	for i := range list {
		out[i] = send(&list[i])
		var refused *RefusedError
		if out[i] != nil && !errors.As(out[i], &refused) {
			fill(out[i:], out[i])
			return out
		}
	}
	_ = done() // all is told already
	return out
}

func fill(out []error, err error) {
	for i := range out {
		out[i] = err
	}
}

// Text is the message for people, a few lines.
func (m *Message) Text() string {
	var b strings.Builder
	b.WriteString(m.Title)
	if m.Times > 1 {
		fmt.Fprintf(&b, ", %d times", m.Times)
	}
	if m.Carried > 0 && m.Dropped > 0 || m.Kind == "held" && m.Carried > 0 {
		fmt.Fprintf(&b, "; on the day %d dropped, %d carried", m.Dropped, m.Carried)
	}
	if m.Why != "" {
		b.WriteString("; " + m.Why)
	}
	if !m.Last.IsZero() {
		b.WriteString("; last at " + m.Last.UTC().Format("15:04:05 on 2 Jan") + " UTC")
	}
	return b.String()
}

// summaryParts is how many parts of a summary are said one by one.
const summaryParts = 20

// Summary makes one message of many.
func Summary(id string, list []Message) Message {
	out := Message{ID: id, At: time.Now().UTC(), Kind: "summary", First: list[0].First, Last: list[0].Last}
	for i := range list {
		m := &list[i]
		out.Times += m.Times
		if m.First.Before(out.First) {
			out.First = m.First
		}
		if out.Last.Before(m.Last) {
			out.Last = m.Last
		}
		if i < summaryParts {
			out.Parts = append(out.Parts, *m)
		}
		if out.Link == "" {
			out.Link = m.Link
		}
	}
	out.Title = fmt.Sprintf("%d matters", len(list))
	if len(list) == 1 {
		out.Title = list[0].Title
	}
	return out
}
