package wire

import (
	"encoding/binary"
	"fmt"

	"github.com/netsampler/goflow2/v2/decoders/netflow"
)

// Bounds on what one exporter can make us keep.
const (
	mostTemplates = 1000
	mostFields    = 400
	mostDomains   = 256
)

// templates keeps the templates of one exporter. It takes none that could make
// a short packet into endless or huge records, and knows withdrawals (RFC 7011,
// §8.1).
type templates struct {
	kept map[templateKey]any
}

type templateKey struct {
	version uint16
	domain  uint32
	id      uint16
}

// GetTemplate implements netflow.NetFlowTemplateSystem.
func (t *templates) GetTemplate(version uint16, domain uint32, id uint16) (any, error) {
	if x, ok := t.kept[templateKey{version, domain, id}]; ok {
		return x, nil
	}
	return nil, netflow.ErrorTemplateNotFound
}

// AddTemplate implements netflow.NetFlowTemplateSystem.
func (t *templates) AddTemplate(version uint16, domain uint32, id uint16, template any) error {
	k := templateKey{version, domain, id}
	var fields, scopes []netflow.Field
	switch x := template.(type) {
	case netflow.TemplateRecord:
		if x.FieldCount == 0 {
			t.withdraw(version, domain, id)
			return nil
		}
		fields = x.Fields
	case netflow.IPFIXOptionsTemplateRecord:
		fields, scopes = x.Options, x.Scopes
	case netflow.NFv9OptionsTemplateRecord:
		fields, scopes = x.Options, x.Scopes
	}
	if id < 256 {
		return fmt.Errorf("a template has the number %d, expected 256 or more", id)
	}
	if n := len(fields) + len(scopes); n == 0 || n > mostFields {
		return fmt.Errorf("template %d has %d fields, expected 1 to %d", id, n, mostFields)
	}
	for _, fs := range [][]netflow.Field{scopes, fields} {
		for _, f := range fs {
			if f.Length == 0 {
				return fmt.Errorf("template %d has a field without length", id)
			}
		}
	}
	if _, known := t.kept[k]; !known && len(t.kept) >= mostTemplates {
		return fmt.Errorf("template %d is one more than the %d that are kept of an exporter", id, mostTemplates)
	}
	t.kept[k] = template
	return nil
}

// RemoveTemplate implements netflow.NetFlowTemplateSystem.
func (t *templates) RemoveTemplate(version uint16, domain uint32, id uint16) (any, error) {
	x, err := t.GetTemplate(version, domain, id)
	delete(t.kept, templateKey{version, domain, id})
	return x, err
}

// GetTemplates implements netflow.NetFlowTemplateSystem; nothing here asks it.
func (t *templates) GetTemplates() netflow.FlowBaseTemplateSet { return nil }

// withdraw forgets a template, or with the number of a set all of its kind.
func (t *templates) withdraw(version uint16, domain uint32, id uint16) {
	if id >= 256 {
		delete(t.kept, templateKey{version, domain, id})
		return
	}
	for k, x := range t.kept {
		_, isData := x.(netflow.TemplateRecord)
		if k.version == version && k.domain == domain && isData == (id == 2) {
			delete(t.kept, k)
		}
	}
}

// survey walks the sets of an IPFIX message or a NetFlow v9 packet before they
// are decoded: it refuses lengths that do not fit, and takes the withdrawals of
// options templates out, which have a shorter form than their templates.
func (t *templates) survey(version uint16, domain uint32, sets []byte) error {
	for len(sets) > 0 {
		if len(sets) < 4 {
			if version == 10 {
				return fmt.Errorf("%d octets are left over after the last set", len(sets))
			}
			return nil
		}
		id, n := binary.BigEndian.Uint16(sets), int(binary.BigEndian.Uint16(sets[2:]))
		if n < 4 || n > len(sets) {
			return fmt.Errorf("a set has the length %d where %d octets are left", n, len(sets))
		}
		if body := sets[4:n]; version == 10 && id == 3 && len(body) >= 4 && binary.BigEndian.Uint16(body[2:]) == 0 {
			for ; len(body) >= 4 && binary.BigEndian.Uint16(body[2:]) == 0; body = body[4:] {
				t.withdraw(version, domain, binary.BigEndian.Uint16(body))
			}
			// What is left is padding: make the set one that has nothing.
			clear(sets[4:n])
			binary.BigEndian.PutUint16(sets, 2)
			for blank := sets[4:n]; len(blank) >= 4; blank = blank[4:] {
				binary.BigEndian.PutUint16(blank, 0xffff) // withdraws a template that is not
			}
		}
		sets = sets[n:]
	}
	return nil
}
