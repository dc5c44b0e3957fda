package notify

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"mime"
	"mime/quotedprintable"
	"net"
	"net/smtp"
	"strings"
	"time"
)

// Mail renders a message as RFC 5322 has it.
func (m *Message) Mail(host, from string, to []string) ([]byte, error) {
	var b bytes.Buffer
	header := func(name, value string) { fmt.Fprintf(&b, "%s: %s\r\n", name, value) }
	header("From", from)
	header("To", strings.Join(to, ", "))
	header("Subject", mime.QEncoding.Encode("utf-8", clipped(strings.ReplaceAll(m.subject(), "\n", " "), 180)))
	header("Date", m.At.UTC().Format(time.RFC1123Z))
	header("Message-ID", "<"+m.ID+"@"+printable(host, 200)+">")
	header("Auto-Submitted", "auto-generated")
	header("MIME-Version", "1.0")
	header("Content-Type", "text/plain; charset=utf-8")
	header("Content-Transfer-Encoding", "quoted-printable")
	b.WriteString("\r\n")
	w := quotedprintable.NewWriter(&b)
	text := m.Text() + "\n"
	for i := range m.Parts {
		text += "\n- " + m.Parts[i].Text()
	}
	if n := len(m.Parts); n > 0 {
		text += "\n"
	}
	if m.Link != "" {
		text += "\n" + m.Link + "\n"
	}
	if _, err := w.Write([]byte(strings.ReplaceAll(text, "\n", "\r\n"))); err != nil {
		return nil, err
	}
	return b.Bytes(), w.Close()
}

func (m *Message) subject() string {
	if m.Kind == "trial" || m.Kind == "summary" {
		return m.Title
	}
	return m.Kind + ": " + m.Title
}

func (s *Sender) mail(ctx context.Context, list []Message) (taken int, err error) {
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", s.Address)
	if err != nil {
		return 0, err
	}
	defer conn.Close()
	end, _ := ctx.Deadline()
	_ = conn.SetDeadline(end)
	host, _, err := net.SplitHostPort(s.Address)
	if err != nil {
		return 0, err
	}
	c, err := smtp.NewClient(conn, host)
	if err != nil {
		return 0, err
	}
	if err := c.Hello(printable(s.Host, 200)); err != nil {
		return 0, err
	}
	if offered, _ := c.Extension("STARTTLS"); offered {
		config, err := s.trust()
		if err != nil {
			return 0, err
		}
		if err := c.StartTLS(config); err != nil {
			return 0, err
		}
	} else if !s.Plain {
		return 0, errors.New("it offers no encryption (STARTTLS), and is not set to do without")
	}
	if s.User != "" {
		if err := c.Auth(smtp.PlainAuth("", s.User, s.Password, host)); err != nil {
			return 0, err
		}
	}
	for i := range list {
		if err := s.one(c, &list[i]); err != nil {
			return i, err
		}
	}
	_ = c.Quit() // all is taken already
	return len(list), nil
}

func (s *Sender) one(c *smtp.Client, m *Message) error {
	body, err := m.Mail(s.Host, s.From, s.To)
	if err != nil {
		return err
	}
	if err := c.Mail(s.From); err != nil {
		return err
	}
	for _, to := range s.To {
		if err := c.Rcpt(to); err != nil {
			return err
		}
	}
	w, err := c.Data()
	if err != nil {
		return err
	}
	if _, err := w.Write(body); err != nil {
		return err
	}
	return w.Close()
}
