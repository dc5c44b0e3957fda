package evidence

import (
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/gowebpki/jcs"
)

// signed is evidence as it is handed out: the signature is over the evidence in the one
// layout of RFC 8785, so that it may be laid out anew, and not changed.
type signed struct {
	Evidence  json.RawMessage `json:"evidence"`
	Signature signature       `json:"signature"`
}

// signature says by whom evidence was made.
type signature struct {
	Algorithm string `json:"algorithm"` // Ed25519
	Layout    string `json:"layout"`    // RFC 8785
	Key       string `json:"key"`       // base64: the public key
	Value     string `json:"value"`     // base64
}

const (
	algorithm = "Ed25519"
	layout    = "RFC 8785"
)

// Sign returns evidence with its signature, as JSON.
func Sign(e *Evidence, key ed25519.PrivateKey) ([]byte, error) {
	raw, err := json.Marshal(e)
	if err != nil {
		return nil, err
	}
	canonical, err := jcs.Transform(raw)
	if err != nil {
		return nil, err
	}
	out, err := json.Marshal(signed{canonical, signature{algorithm, layout,
		base64.StdEncoding.EncodeToString(key.Public().(ed25519.PublicKey)),
		base64.StdEncoding.EncodeToString(ed25519.Sign(key, canonical))}})
	if err != nil {
		return nil, err
	}
	var laid bytes.Buffer
	if err := json.Indent(&laid, out, "", "  "); err != nil {
		return nil, err
	}
	laid.WriteByte('\n')
	return laid.Bytes(), nil
}

// Fingerprint is a public key in short: what people compare.
func Fingerprint(key ed25519.PublicKey) string {
	sum := sha256.Sum256(key)
	text := hex.EncodeToString(sum[:16])
	out := text[:4]
	for i := 4; i < len(text); i += 4 {
		out += " " + text[i:i+4]
	}
	return out
}

// read takes the members apart that a signature needs, and refuses all others: what is
// beside the evidence is not signed, and who reads the file could take it for a part of it.
func (s *signed) read(text []byte) error {
	whole, err := members(text, "evidence", "signature")
	if err != nil {
		return err
	}
	s.Evidence = whole["evidence"]
	parts, err := members(whole["signature"], "algorithm", "layout", "key", "value")
	if err != nil {
		return fmt.Errorf("signature: %w", err)
	}
	for name, into := range map[string]*string{"algorithm": &s.Signature.Algorithm, "layout": &s.Signature.Layout,
		"key":   &s.Signature.Key,
		"value": &s.Signature.Value} {
		if err := json.Unmarshal(parts[name], into); err != nil {
			return fmt.Errorf("signature: %s: %w", name, err)
		}
	}
	return nil
}

// members returns those of an object that has just these, each once.
func members(text []byte, names ...string) (map[string]json.RawMessage, error) {
	d := json.NewDecoder(bytes.NewReader(text))
	if t, err := d.Token(); err != nil {
		return nil, err
	} else if t != json.Delim('{') {
		return nil, errors.New("found no object")
	}
	out := map[string]json.RawMessage{}
	for d.More() {
		t, err := d.Token()
		if err != nil {
			return nil, err
		}
		name, _ := t.(string)
		switch {
		case !slices.Contains(names, name):
			return nil, fmt.Errorf("found the unsigned member %q, expected only %s", name, strings.Join(names, ", "))
		case out[name] != nil:
			return nil, fmt.Errorf("found the member %q twice", name)
		}
		var value json.RawMessage
		if err := d.Decode(&value); err != nil {
			return nil, err
		}
		out[name] = value
	}
	if _, err := d.Token(); err != nil {
		return nil, err
	}
	if _, err := d.Token(); err != io.EOF {
		return nil, errors.New("found more behind its end")
	}
	for _, name := range names {
		if out[name] == nil {
			return nil, fmt.Errorf("found no member %q", name)
		}
	}
	return out, nil
}

// Verify reads signed evidence, if it is what was signed by the key that it names.
func Verify(text []byte) (*Evidence, ed25519.PublicKey, error) {
	var s signed
	if err := s.read(text); err != nil {
		return nil, nil, fmt.Errorf("this is no signed evidence: %w", err)
	}
	if s.Signature.Algorithm != algorithm || s.Signature.Layout != layout {
		return nil, nil, fmt.Errorf("found a signature by %q over %q, expected %s over %s", s.Signature.Algorithm,
			s.Signature.Layout, algorithm, layout)
	}
	key, err := base64.StdEncoding.DecodeString(s.Signature.Key)
	if err != nil || len(key) != ed25519.PublicKeySize {
		return nil, nil, errors.New("the key of the signature cannot be read: expected 32 octets in base64")
	}
	value, err := base64.StdEncoding.DecodeString(s.Signature.Value)
	if err != nil {
		return nil, nil, errors.New("the signature cannot be read: expected base64")
	}
	canonical, err := jcs.Transform(s.Evidence)
	if err != nil {
		return nil, nil, fmt.Errorf("the evidence cannot be read: %w", err)
	}
	if !ed25519.Verify(key, canonical, value) {
		return nil, nil, errors.New(
			"the evidence is not what was signed: it was changed since, or the signature is of something else")
	}
	var e Evidence
	if err := json.Unmarshal(s.Evidence, &e); err != nil {
		return nil, nil, fmt.Errorf("the evidence is signed, and cannot be read: %w", err)
	}
	if e.Format != format {
		return nil, nil, fmt.Errorf("the evidence is signed, and written as %q; this program reads %q", e.Format,
			format)
	}
	return &e, key, nil
}
