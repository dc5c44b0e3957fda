package watching

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// What happens is told when the pace says, but not in quiet hours: then at their end, also
// where they go over midnight.
func TestWhenIsItTold(t *testing.T) {
	minute := func(h, m int) *int {
		n := h*60 + m
		return &n
	}
	at := func(day, h, m int) time.Time { return time.Date(2026, 11, day, h, m, 30, 0, time.UTC) }
	full := func(day, h int) time.Time { return time.Date(2026, 11, day, h, 0, 0, 0, time.UTC) }
	for _, x := range []struct {
		name, pace  string
		from, until *int
		now, want   time.Time
	}{
		{"at once", "at once", nil, nil, at(20, 3, 7), at(20, 3, 7)},
		{"at the full hour", "hourly", nil, nil, at(20, 3, 7), full(20, 4)},
		{"in the morning", "daily", nil, nil, at(20, 3, 7), full(20, 8)},
		{"the next morning", "daily", nil, nil, at(20, 8, 0), full(21, 8)},
		{"after a quiet noon", "at once", minute(12, 0), minute(14, 0), at(20, 13, 0), full(20, 14)},
		{"before it", "at once", minute(12, 0), minute(14, 0), at(20, 11, 0), at(20, 11, 0)},
		{"at its end", "at once", minute(12, 0), minute(14, 0), at(20, 14, 0), at(20, 14, 0)},
		{"after a quiet night, in the evening", "at once", minute(22, 0), minute(6, 0), at(20, 23, 0), full(21, 6)},
		{"after a quiet night, in the morning", "at once", minute(22, 0), minute(6, 0), at(20, 2, 0), full(20, 6)},
		{"by day", "at once", minute(22, 0), minute(6, 0), at(20, 7, 0), at(20, 7, 0)},
		{"the full hour is quiet", "hourly", minute(22, 0), minute(6, 0), at(20, 21, 10), full(21, 6)},
		{"no hours at all", "at once", minute(6, 0), minute(6, 0), at(20, 6, 0), at(20, 6, 0)},
	} {
		require.Equal(t, x.want, dueAt(&Notice{Pace: x.pace, From: x.from, Until: x.until}, x.now), x.name)
	}
}

// A notice is about one matter, some kinds, or all.
func TestWhatANoticeIsAbout(t *testing.T) {
	require.True(t, concerns(&Notice{}, "m", "leak"))
	require.True(t, concerns(&Notice{Kinds: []string{"choke", "leak"}}, "m", "leak"))
	require.False(t, concerns(&Notice{Kinds: []string{"choke"}}, "m", "leak"))
	require.True(t, concerns(&Notice{Matter: "m", Kinds: []string{"leak"}}, "m", "leak"))
	require.False(t, concerns(&Notice{Matter: "n"}, "m", "leak"))
}
