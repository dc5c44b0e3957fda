package decide_test

import (
	"net/netip"
	"time"
)

func netipAddr(s string) netip.Addr { return netip.MustParseAddr(s) }

func mustTime(s string) time.Time {
	t, err := time.Parse(time.RFC3339Nano, s)
	if err != nil {
		panic(err)
	}
	return t
}
