package notify

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"
)

// SignatureHeader is where the hex of the HMAC-SHA-256 of the body stands, after
// "sha256=".
const SignatureHeader = "Orchard-Signature"

// Event renders a message in the envelope of CloudEvents 1.0, as JSON.
func (m *Message) Event(source string) ([]byte, error) {
	return json.Marshal(map[string]any{
		"specversion": "1.0", "id": m.ID, "source": source, "type": "lucid-orchard." + m.Kind, "time": m.At.UTC().Format(time.RFC3339Nano),
		"subject": m.Title, "datacontenttype": "application/json", "data": m,
	})
}

// Sign gives the value of SignatureHeader.
func Sign(secret string, body []byte) string {
	mac := hmac.New(sha256.New, []byte(secret))
	_, _ = mac.Write(body)
	return "sha256=" + hex.EncodeToString(mac.Sum(nil))
}

func (s *Sender) webhook(ctx context.Context, m *Message) error {
	body, err := m.Event("/" + url.PathEscape(s.Host) + "/watch")
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, s.Address, bytes.NewReader(body))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/cloudevents+json; charset=UTF-8")
	r.Header.Set(SignatureHeader, Sign(s.Secret, body))
	transport := &http.Transport{DisableKeepAlives: true}
	if s.CA != "" {
		var config *tls.Config
		if config, err = (&Sender{Settings: Settings{Address: r.URL.Hostname() + ":443", CA: s.CA}}).trust(); err != nil {
			return err
		}
		transport.TLSClientConfig = config
	}
	client := http.Client{Transport: transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	answer, err := client.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(answer.Body, 300))
	if answer.StatusCode/100 != 2 {
		return fmt.Errorf("it answers %s: %s", answer.Status, bytes.TrimSpace(said))
	}
	return nil
}
