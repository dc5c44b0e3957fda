package assembly_test

import (
	"fmt"
	"net/http"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly/assemblytest"
)

// numbered is what the description says of the numbers of operations.
type numbered struct {
	Paths map[string]map[string]struct {
		Parameters []struct {
			Name   string `json:"name"`
			In     string `json:"in"`
			Schema schema `json:"schema"`
		} `json:"parameters"`
		RequestBody *struct {
			Content map[string]struct {
				Schema schema `json:"schema"`
			} `json:"content"`
		} `json:"requestBody"`
	} `json:"paths"`
	Components struct {
		Schemas map[string]schema `json:"schemas"`
	} `json:"components"`
}

type schema struct {
	Ref        string            `json:"$ref"`
	Type       any               `json:"type"`
	Properties map[string]schema `json:"properties"`
	Items      *schema           `json:"items"`
	Enum       []any             `json:"enum"`
}

// make returns a value of a schema in which every number is one.
func (n *numbered) make(s schema, number any, depth int) any {
	if name, ok := strings.CutPrefix(s.Ref, "#/components/schemas/"); ok {
		s = n.Components.Schemas[name]
	}
	kind, _ := s.Type.(string)
	switch {
	case len(s.Enum) > 0:
		return s.Enum[0]
	case kind == "integer", kind == "number":
		return number
	case kind == "boolean":
		return false
	case kind == "string":
		return "env is live"
	case kind == "array" && s.Items != nil && depth < 4:
		return []any{n.make(*s.Items, number, depth+1)}
	case kind == "array":
		return []any{}
	case kind == "object" && depth < 5:
		out := map[string]any{}
		for name, p := range s.Properties {
			if name != "$schema" {
				out[name] = n.make(p, number, depth+1)
			}
		}
		return out
	}
	return nil
}

// Whatever numbers a request has, none is a fault of the server: they are answered, or
// refused with what and where.
func TestNoNumberIsAFault(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	var all numbered
	require.Equal(t, 200, c.Call("GET", "/api/openapi.json", nil, &all))
	asked := 0
	ask := func(method, path string, body any) {
		asked++
		r := c.SendWith(strings.ToUpper(method), path, body, nil, http.Header{"If-Match": {`"1"`}})
		require.Less(t, r.StatusCode, 500, "%s %s %v", method, path, body)
	}
	holes := regexp.MustCompile(`\{[^}]*\}`)
	for path, ops := range all.Paths {
		if strings.HasSuffix(path, "/events") || strings.HasSuffix(path, "/stream") ||
			strings.HasSuffix(path, "/told") {
			continue // they last
		}
		for method, op := range ops {
			for _, n := range []int64{-1, 0, 1 << 31, -1 << 31, 1<<63 - 1} {
				at := path
				for _, p := range op.Parameters {
					switch {
					case p.Schema.Type != "integer" && p.Schema.Type != "number":
					case p.In == "path":
						at = strings.ReplaceAll(at, "{"+p.Name+"}", fmt.Sprint(n))
					case p.In == "query":
						ask(method, holes.ReplaceAllString(path, "x")+fmt.Sprintf("?%s=%d", p.Name, n), nil)
					}
				}
				at = holes.ReplaceAllString(at, "x")
				if op.RequestBody == nil {
					if at != path {
						ask(method, at, nil)
					}
					continue
				}
				if content, ok := op.RequestBody.Content["application/json"]; ok {
					ask(method, at, all.make(content.Schema, n, 0))
				}
			}
		}
	}
	require.Greater(t, asked, 500)
}
