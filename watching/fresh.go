package watching

import (
	"sync"

	"lucidorchard/core/flow"
	"lucidorchard/model"
	"lucidorchard/traffic"
)

// mostFresh is how many buckets are held that no model knows yet. What is more is found when the
// model does.
const mostFresh = 200_000

// fresh is what the collector has stored and no model knows yet: it reaches those who watch
// before it is read again with everything else.
type fresh struct {
	came chan struct{} // something did, since it was looked at last

	mu      sync.Mutex
	all     []traffic.Stored
	buckets int
}

func (f *fresh) put(s traffic.Stored) {
	f.mu.Lock()
	if f.buckets+len(s.Fresh) <= mostFresh {
		f.all = append(f.all, s)
		f.buckets += len(s.Fresh)
	}
	f.mu.Unlock()
	select {
	case f.came <- struct{}{}:
	default:
	}
}

// beside returns what a model does not know, with the newest version of each of its hours, and forgets
// what it knows.
func (f *fresh) beside(m *model.Model) (buckets []flow.Bucket, versions map[flow.Hour]int64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	versions = map[flow.Hour]int64{}
	var still []traffic.Stored
	for _, s := range f.all {
		unknown := 0
		for i := range s.Fresh {
			if b := &s.Fresh[i]; m.Versions.Conversations < s.Version && m.Hours[b.Hour] < s.Version {
				buckets = append(buckets, *b)
				versions[b.Hour] = max(versions[b.Hour], s.Version)
				unknown++
			}
		}
		if unknown > 0 {
			still = append(still, s)
		} else {
			f.buckets -= len(s.Fresh)
		}
	}
	f.all = still
	return buckets, versions
}
