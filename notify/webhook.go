package notify

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// SignatureHeader is where the hex of the HMAC-SHA-256 of the body stands, after
// "sha256=".
const SignatureHeader = "Orchard-Signature"

// event renders a message in the envelope of CloudEvents 1.0, as JSON.
func (m *Message) event(source string) ([]byte, error) {
	return json.Marshal(map[string]any{
		"specversion": "1.0", "id": m.ID, "source": source, "type": "lucid-orchard." + m.Kind,
		"time":    m.At.UTC().Format(time.RFC3339Nano),
		"subject": m.Title, "datacontenttype": "application/json", "data": m,
	})
}

// Sign returns the value of SignatureHeader.
func Sign(secret string, body []byte) string {
	mac := hmac.New(sha256.New, []byte(secret))
	_, _ = mac.Write(body)
	return "sha256=" + hex.EncodeToString(mac.Sum(nil))
}

// client follows no redirect: the address that was allowed is the one that is asked.
func (s *Sender) client() (*http.Client, error) {
	transport := &http.Transport{DialContext: s.Reach.dialer().DialContext, ResponseHeaderTimeout: patience}
	if s.CA != "" {
		u, err := url.Parse(s.Address)
		if err != nil {
			return nil, err
		}
		config, err := (&Sender{Settings: Settings{Address: u.Hostname() + ":443", CA: s.CA}}).trust()
		if err != nil {
			return nil, err
		}
		transport.TLSClientConfig = config
	}
	return &http.Client{Transport: transport,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}, nil
}

func (s *Sender) webhook(ctx context.Context, client *http.Client, m *Message) error {
	body, err := m.event("/" + url.PathEscape(s.Host) + "/watch")
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, s.Address, bytes.NewReader(body))
	if err != nil {
		return errors.New("the address cannot be used")
	}
	r.Header.Set("Content-Type", "application/cloudevents+json; charset=UTF-8")
	r.Header.Set(SignatureHeader, Sign(s.Secret, body))
	if s.User != "" {
		r.SetBasicAuth(s.User, s.Password)
	}
	answer, err := client.Do(r)
	if err != nil {
		var of *url.Error // it repeats the address
		if errors.As(err, &of) {
			err = of.Err
		}
		// The first quotes what came instead of an answer; the second is of one that came unasked.
		if text := err.Error(); strings.Contains(text, "malformed HTTP") || strings.Contains(text, "readLoopPeekFail") {
			return errors.New("the receiver does not speak HTTP")
		}
		return err
	}
	defer answer.Body.Close()
	_, _ = io.CopyN(io.Discard, answer.Body, 4096) // so that the connection can be used again
	switch code := answer.StatusCode; {
	case code/100 == 2:
		return nil
	case code/100 == 4 && code != http.StatusRequestTimeout && code != http.StatusTooManyRequests &&
		code != http.StatusUnauthorized && code != http.StatusForbidden && code != http.StatusNotFound:
		return &RefusedError{answers(code)}
	default:
		return errors.New(answers(code))
	}
}

// answers says a status in our words: what else the other side says is nobody's to read.
func answers(code int) string {
	if words := http.StatusText(code); words != "" {
		return fmt.Sprintf("it answers %d %s", code, words)
	}
	return fmt.Sprintf("it answers %d", code)
}
