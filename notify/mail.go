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
	"net/textproto"
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

// mail opens a session with the mail server.
func (s *Sender) mail(ctx context.Context) (*smtp.Client, error) {
	conn, err := s.Reach.dialer().DialContext(ctx, "tcp", s.Address)
	if err != nil {
		return nil, err
	}
	c, err := s.greeted(ctx, conn)
	if err != nil {
		conn.Close()
		return nil, unsaid(err)
	}
	return c, nil
}

func (s *Sender) greeted(ctx context.Context, conn net.Conn) (*smtp.Client, error) {
	end, _ := ctx.Deadline()
	_ = conn.SetDeadline(end)
	host, _, err := net.SplitHostPort(s.Address)
	if err != nil {
		return nil, err
	}
	c, err := smtp.NewClient(conn, host)
	if err != nil {
		return nil, err
	}
	if err := c.Hello(printable(s.Host, 200)); err != nil {
		return nil, err
	}
	if offered, _ := c.Extension("STARTTLS"); offered {
		config, err := s.trust()
		if err != nil {
			return nil, err
		}
		if err := c.StartTLS(config); err != nil {
			return nil, err
		}
	} else if !s.Plain {
		return nil, errors.New("it offers no encryption (STARTTLS), and the destination requires it")
	}
	if s.User != "" {
		if err := c.Auth(smtp.PlainAuth("", s.User, s.Password, host)); err != nil {
			return nil, err
		}
	}
	return c, nil
}

// unsaid keeps of what a mail server says the code: the rest is nobody's to read.
func unsaid(err error) error {
	var code *textproto.Error
	var odd textproto.ProtocolError
	switch {
	case errors.As(err, &code):
		return fmt.Errorf("it answers with the code %d", code.Code)
	case errors.As(err, &odd):
		return errors.New("the receiver is not a mail server")
	}
	return err
}

// one sends a message. That the server refuses it for good is said of this one alone.
func (s *Sender) one(c *smtp.Client, m *Message) error {
	err := s.hand(c, m)
	var code *textproto.Error
	if errors.As(err, &code) && code.Code/100 == 5 && c.Reset() == nil {
		return &RefusedError{fmt.Sprintf("it refuses with the code %d", code.Code)}
	}
	return unsaid(err)
}

func (s *Sender) hand(c *smtp.Client, m *Message) error {
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
