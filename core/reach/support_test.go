package reach_test

import "net/netip"

func addrOf(s string) netip.Addr { return netip.MustParseAddr(s) }
