package e2e

import (
	"encoding/json"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"

	requests "github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// faults are what no test may come across, whatever else it looks at: errors in the page that
// nobody caught, and parameters in requests that the API does not have.
type faults struct {
	mu    sync.Mutex
	found []string
}

func (f *faults) add(format string, args ...any) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.found = append(f.found, fmt.Sprintf(format, args...))
}

// declared returns what tells the query parameters that the API has for a path; false: it does not
// describe the path.
func declared(p *page) func(path string) (names []string, described bool) {
	var said struct {
		Paths map[string]map[string]struct {
			Parameters []struct {
				Name string
				In   string
			}
		}
	}
	require.NoError(p.t, json.Unmarshal([]byte(get(p.t, p.base+"/api/openapi.json")), &said))
	type known struct {
		path  *regexp.Regexp
		names []string
	}
	var all []known
	for path, operations := range said.Paths {
		k := known{regexp.MustCompile("^" +
			regexp.MustCompile(`\\\{[^/]+?\\\}`).ReplaceAllString(regexp.QuoteMeta(path), "[^/]+") + "$"), nil}
		for _, op := range operations {
			for _, x := range op.Parameters {
				if x.In == "query" {
					k.names = append(k.names, x.Name)
				}
			}
		}
		all = append(all, k)
	}
	return func(path string) (names []string, described bool) {
		for _, k := range all {
			if k.path.MatchString(path) {
				names, described = append(names, k.names...), true
			}
		}
		return names, described
	}
}

// watchFor fails the test at its end if the page comes across faults.
func (p *page) watchFor() {
	f := &faults{}
	names := declared(p)
	require.NoError(p.t, chromedp.Listen(p.ctx, func(ev any) {
		switch ev := ev.(type) {
		case *runtime.EventExceptionThrown:
			f.add("an error that nobody caught: %s %+v", ev.ExceptionDetails.Text, ev.ExceptionDetails.Exception)
		case *requests.EventRequestWillBeSent:
			u, err := url.Parse(ev.Request.URL)
			if err != nil || !strings.HasPrefix(u.Path, "/api/v1/") {
				return
			}
			has, described := names(u.Path)
			for name := range u.Query() {
				if described && !slices.Contains(has, name) {
					f.add("%s asks for %q, which the API does not have", u.Path, name)
				}
			}
		}
	}))
	p.t.Cleanup(func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		require.Empty(p.t, f.found)
	})
}
