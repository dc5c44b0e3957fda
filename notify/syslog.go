package notify

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"
)

// element names our structured data: 32473 is the number that RFC 5612 keeps for
// examples, as there is no other for what is made up.
const element = "orchard@32473"

// mostSyslog is how long a message is at most (RFC 5424 §6.1 wants 2048 to be taken).
const mostSyslog = 2048

// Syslog renders a message as RFC 5424 has it.
func (m *Message) Syslog(host string) []byte {
	const facility = 16 // local0
	severity := map[string]int{"leak": 1, "choke": 4, "held": 5, "trial": 6, "summary": 4}[m.Kind]
	if severity == 0 {
		severity = 5
	}
	var b strings.Builder
	fmt.Fprintf(&b, "<%d>1 %s %s lucid-orchard %d %s [%s", facility*8+severity,
		m.At.UTC().Format("2006-01-02T15:04:05.000000Z"),
		printable(host, 255), os.Getpid(), printable(strings.ReplaceAll(m.Kind, " ", "-"), 32), element)
	param := func(name, value string) {
		if value != "" {
			fmt.Fprintf(&b, ` %s="%s"`, name, escape(oneLine(value)))
		}
	}
	number := func(name string, n int64) {
		if n != 0 {
			param(name, strconv.FormatInt(n, 10))
		}
	}
	param("id", m.ID)
	param("kind", m.Kind)
	param("who", clipped(m.Who, 200))
	param("what", clipped(m.What, 200))
	param("verdict", m.Verdict)
	number("line", int64(m.Line))
	number("release", int64(m.Release))
	param("point", clipped(m.Point, 100))
	number("times", m.Times)
	param("matter", m.Matter)
	b.WriteString("] \ufeff")
	text := m.Text()
	for i := range m.Parts {
		text += " | " + m.Parts[i].Text()
	}
	b.WriteString(clipped(oneLine(text), mostSyslog-b.Len()))
	return []byte(b.String())
}

// printable keeps what a header may hold: printable ASCII.
func printable(s string, most int) string {
	s = strings.Map(func(r rune) rune {
		if r <= ' ' || r > '~' {
			return '-'
		}
		return r
	}, s)
	if s == "" {
		return "-"
	}
	return s[:min(len(s), most)]
}

// oneLine keeps a message on its line, whatever stands in it.
func oneLine(s string) string {
	return strings.ToValidUTF8(strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || r >= 0x80 && r < 0xa0 || r == 0x2028 || r == 0x2029 {
			return ' '
		}
		return r
	}, s), "�")
}

var escape = strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`).Replace

// clipped cuts a text to so many octets, between characters.
func clipped(s string, most int) string {
	if len(s) <= most {
		return s
	}
	s = s[:max(0, most-3)]
	for len(s) > 0 && !utf8.ValidString(s) {
		s = s[:len(s)-1]
	}
	return s + "…"
}

func (s *Sender) syslog(ctx context.Context, list []Message) error {
	if s.Transport == "udp" {
		return s.syslogUDP(ctx, list)
	}
	c, err := s.Reach.dialer().DialContext(ctx, "tcp", s.Address)
	if err != nil {
		return err
	}
	defer c.Close()
	end, _ := ctx.Deadline()
	_ = c.SetDeadline(end)
	var closing interface{ CloseWrite() error } = c.(*net.TCPConn)
	if s.Transport == "tls" {
		secure, err := s.secured(ctx, c)
		if err != nil {
			return err
		}
		c, closing = secure, secure
	}
	for i := range list {
		m := list[i].Syslog(s.Host)
		// With its length before it (RFC 6587 §3.4.1, RFC 5425 §4.3).
		if _, err := fmt.Fprintf(c, "%d %s", len(m), m); err != nil {
			return err
		}
	}
	// That the other side ends as well says that it has read all.
	if err := closing.CloseWrite(); err != nil {
		return err
	}
	if _, err := io.Copy(io.Discard, c); err != nil {
		return fmt.Errorf("it did not say that it has read all: %w", err)
	}
	return nil
}

// secured talks TLS over a connection.
func (s *Sender) secured(ctx context.Context, c net.Conn) (*tls.Conn, error) {
	config, err := s.trust()
	if err != nil {
		return nil, err
	}
	secure := tls.Client(c, config)
	return secure, secure.HandshakeContext(ctx)
}

func (s *Sender) trust() (*tls.Config, error) {
	host, _, err := net.SplitHostPort(s.Address)
	if err != nil {
		return nil, err
	}
	config := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if s.CA != "" {
		config.RootCAs = x509.NewCertPool()
		if !config.RootCAs.AppendCertsFromPEM([]byte(s.CA)) {
			return nil, errors.New("ca: found no certificate")
		}
	}
	return config, nil
}

// syslogUDP sends each message in a packet. Nobody says that it arrived; that nobody
// listens there is sometimes said.
func (s *Sender) syslogUDP(ctx context.Context, list []Message) error {
	c, err := s.Reach.dialer().DialContext(ctx, "udp", s.Address)
	if err != nil {
		return err
	}
	defer c.Close()
	for i := range list {
		if _, err := c.Write(list[i].Syslog(s.Host)); err != nil {
			return err
		}
	}
	_ = c.SetReadDeadline(time.Now().Add(200 * time.Millisecond))
	if _, err := c.Read(make([]byte, 1)); err != nil && !errors.Is(err, os.ErrDeadlineExceeded) {
		return err
	}
	return nil
}
