package expr

import (
	"net/netip"
	"strings"

	"lucidorchard/core/syntax"
)

// String prints the one canonical form, which parses to the same expression.
func (e *Expr) String() string {
	var b strings.Builder
	e.print(&b)
	return b.String()
}

var testWords = map[Op]string{
	Is: "is ", IsNot: "is not ", In: "in (", NotIn: "not in (",
	Starts: "starts ", Ends: "ends ", Contains: "contains ", Matches: "matches ",
}

func (e *Expr) print(b *strings.Builder) {
	switch e.Op {
	case Any:
		b.WriteString("any")
	case outside:
		b.WriteString("outside")
	case And, or:
		for i, k := range e.Kids {
			if i > 0 {
				b.WriteString(map[Op]string{And: " and ", or: " or "}[e.Op])
			}
			k.printIn(b, e.Op == And && k.Op == or)
		}
	case not:
		b.WriteString("not ")
		op := e.Kids[0].Op
		e.Kids[0].printIn(b, op == And || op == or || op == not)
	case AddressIn:
		b.WriteString("address in ")
		for i, p := range e.Prefixes {
			if i > 0 {
				b.WriteString(", ")
			}
			b.WriteString(PrefixText(p))
		}
	case MemberOf:
		b.WriteString("member of " + syntax.Name(e.Group))
	case Has, Lacks:
		b.WriteString(map[Op]string{Has: "has ", Lacks: "lacks "}[e.Op] + e.Key.String())
	default:
		b.WriteString(e.Key.String() + " " + testWords[e.Op])
		for i, v := range e.Values {
			if i > 0 {
				b.WriteString(", ")
			}
			b.WriteString(syntax.Name(v))
		}
		if e.Op == In || e.Op == NotIn {
			b.WriteString(")")
		}
	}
}

func (e *Expr) printIn(b *strings.Builder, parens bool) {
	if parens {
		b.WriteString("(")
		defer b.WriteString(")")
	}
	e.print(b)
}

// PrefixText prints a prefix that holds one address as the address.
func PrefixText(p netip.Prefix) string {
	if p.IsSingleIP() {
		return p.Addr().String()
	}
	return p.String()
}
