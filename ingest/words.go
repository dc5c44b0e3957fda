package ingest

// Words of foreign files: outcomes, protocols, numbers, times.

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // zones have names on every machine

	"lucidorchard/core/service"
)

// outcomeWords are what programs and people call an outcome, in lower case.
var outcomeWords = map[string]string{}

func init() {
	for as, words := range map[string]string{
		"carried": "carried accept accepted allow allowed pass passed forward forwarded permit permitted ok success " +
			"successful established closed close built teardown end open opened yes true 1 " +
			"erlaubt zugelassen akzeptiert durchgelassen autorisé accepté permis autorizado permitido aceptado " +
			"aceito " +
			"consentito accettato permesso toegestaan geaccepteerd tillåten tilladt tillatt sallittu dozwolone " +
			"zezwolono povoleno engedélyezett izinli izin разрешено 許可 允许 허용",
		"dropped": "dropped drop deny denied block blocked reject rejected discard discarded refused fail failed no " +
			"false 0 reset timeout verweigert abgelehnt blockiert verworfen gesperrt refusé bloqué rejeté rejetée " +
			"denegado bloqueado rechazado negado rejeitado negato bloccato rifiutato geweigerd geblokkeerd nekad " +
			"blockerad afvist blokeret nektet blokkert estetty hylätty odrzucono zablokowano zamítnuto blokováno " +
			"elutasítva engellendi reddedildi запрещено заблокировано 拒否 拒绝 차단",
		"unknown": "unknown - n/a na none unbekannt inconnu desconocido sconosciuto onbekend okänd nieznane",
	} {
		for _, w := range strings.Fields(words) {
			outcomeWords[w] = as
		}
	}
}

// guessOutcome returns what a word for an outcome means: carried, dropped or
// unknown; blank if nobody knows.
func guessOutcome(word string) string { return outcomeWords[strings.ToLower(strings.TrimSpace(word))] }

// GuessOutcomeIn is GuessOutcome for a column that is an information element of IPFIX by its
// heading: their numbers have meanings of their own (firewallEvent; forwardingStatus, RFC
// 7270 §4.12).
func GuessOutcomeIn(heading, word string) string {
	n, err := strconv.ParseUint(strings.TrimSpace(word), 0, 8)
	if err != nil {
		return guessOutcome(word)
	}
	switch strings.Join(wordsOf(heading), " ") {
	case "firewall event":
		switch n {
		case 1, 2, 5: // created, deleted, updated
			return "carried"
		case 3:
			return "dropped"
		}
		return "unknown"
	case "forwarding status":
		return [...]string{"unknown", "carried", "dropped", "carried"}[n>>6] // not known, forwarded, dropped, consumed
	}
	return guessOutcome(word)
}

// outcomeHeading returns the heading of the column of outcomes, if there is one.
func (f *Form) outcomeHeading() string {
	for heading, column := range f.Columns {
		if column == "outcome" {
			return heading
		}
	}
	return ""
}

var wordParts = regexp.MustCompile(`[a-z]+[0-9]*|[0-9]+`)

// guessProtocol returns what a word for a protocol means, as parseProto reads it;
// blank if nobody knows.
func guessProtocol(word string) string {
	w := strings.ToLower(strings.TrimSpace(word))
	if _, ok := parseProto(w); ok {
		return w
	}
	w = strings.TrimPrefix(w, "ip/")
	// "6 (tcp)", "tcp/6", "IPv6-ICMP", "TCP_V4"
	if strings.Contains(w, "icmp") && strings.Contains(w, "6") {
		return "icmp6"
	}
	for _, part := range wordParts.FindAllString(w, 4) {
		if _, ok := service.ProtoNumber(part); ok {
			return part
		}
		if n, ok := parseCount(part, 255); ok {
			return strconv.Itoa(int(n))
		}
	}
	return ""
}

// How days and months stand in a date.
const (
	dayFirst   = "day-first"
	monthFirst = "month-first"
)

// clockTime reads times as a form says; its zero value reads them as UTC.
type clockTime struct {
	zone  *time.Location
	month bool // months stand first
	last  int  // the layout that fitted last
}

// layouts of times, in the order in which they are tried. Those with / are of
// days first; months first are made of them.
var layouts = []string{
	"2006-01-02T15:04:05.999999999Z07:00", "2006-01-02T15:04:05.999999999", "2006-01-02 15:04:05.999999999",
	"2006-01-02 15:04:05.999999999Z07:00", "2006-01-02 15:04:05.999999999 Z07:00", "2006-01-02 15:04",
	"2006-01-02T15:04Z07:00", "2006-01-02T15:04:05.999999999-0700", "2006-01-02 15:04:05.999999999 -0700",
	"2006/01/02 15:04:05.999999999", "2006/01/02 15:04", "20060102150405", "20060102T150405Z", "20060102T150405",
	"2.1.2006 15:04:05.999999999", "2.1.2006 15:04", "2.1.2006, 15:04:05", "2.1.06 15:04:05",
	"2/1/2006 15:04:05.999999999", "2/1/2006 15:04", "2/1/2006, 15:04:05", "2/1/2006 3:04:05 PM", "2/1/06 15:04:05",
	"2-1-2006 15:04:05.999999999", "2-1-2006 15:04",
	"2 Jan 2006 15:04:05", "Jan 2 2006 15:04:05", "Jan 2, 2006 15:04:05", "Mon Jan 2 15:04:05 2006",
	"02/Jan/2006:15:04:05 -0700", "2006-01-02", "2.1.2006", "2/1/2006",
}

func (c *clockTime) layout(i int) string {
	if c.month && strings.HasPrefix(layouts[i], "2/1/") {
		return "1/2/" + layouts[i][4:]
	}
	return layouts[i]
}

// read makes a time one of RFC 3339, in UTC. What it cannot read it gives back.
// Numbers are seconds, milliseconds, microseconds or nanoseconds since 1970, by
// their size.
func (c *clockTime) read(cell string) string {
	if len(cell) == 0 {
		return cell
	}
	zone := c.zone
	if zone == nil {
		zone = time.UTC
	}
	if at, err := time.ParseInLocation(c.layout(c.last), cell, zone); err == nil {
		return at.UTC().Format(time.RFC3339Nano)
	}
	if at, ok := sinceEpoch(cell); ok {
		return at.UTC().Format(time.RFC3339Nano)
	}
	for i := range layouts {
		if at, err := time.ParseInLocation(c.layout(i), cell, zone); err == nil {
			c.last = i
			return at.UTC().Format(time.RFC3339Nano)
		}
	}
	if comma := strings.LastIndexByte(cell, ','); comma > 0 { // 00:00:34,500
		if point := cell[:comma] + "." + cell[comma+1:]; !strings.ContainsAny(cell[comma+1:], " :") {
			if out := c.read(point); out != point {
				return out
			}
		}
	}
	return cell
}

// sinceEpoch reads a number of seconds, or of a fraction of them, since 1970. It
// is exact to the microsecond.
func sinceEpoch(cell string) (time.Time, bool) {
	whole, part, _ := strings.Cut(strings.Replace(cell, ",", ".", 1), ".")
	n, ok := parseCount(whole, math.MaxInt64)
	if !ok || len(whole) < 9 || len(whole) > 19 {
		return time.Time{}, false
	}
	micros := int64(0)
	if part != "" {
		digits := (part + "000000")[:6]
		if micros, ok = parseCount(digits, 999_999); !ok {
			return time.Time{}, false
		}
	}
	switch {
	case len(whole) <= 11:
		return time.Unix(n, micros*1000), true
	case len(whole) <= 13:
		return time.UnixMilli(n), true
	case len(whole) == 14: // 20261120000034 is no number
		return time.Time{}, false
	case len(whole) <= 17:
		return time.UnixMicro(n), true
	}
	return time.Unix(0, n), true
}

// guessDays tells from times whether days or months stand first; blank if they
// do not tell.
func guessDays(times []string) string {
	for _, t := range times {
		var a, b, y int
		if n, _ := fmt.Sscanf(t, "%d/%d/%d", &a, &b, &y); n == 3 && y > 31 {
			if a > 12 && b <= 12 {
				return dayFirst
			}
			if b > 12 && a <= 12 {
				return monthFirst
			}
		}
	}
	return ""
}

var grouped = regexp.MustCompile(`^\d{1,3}(?:[.,'’  ]\d{3})+$`)

// plainNumber takes the signs between groups of digits, and a fraction, out of a
// whole number: 1.234.567 is 1234567, and 12,0 is 12.
func plainNumber(cell string) string {
	if strings.IndexFunc(cell, func(r rune) bool { return r < '0' || r > '9' }) < 0 {
		return cell
	}
	if cell == "-" {
		return ""
	}
	if grouped.MatchString(cell) {
		return strings.Map(func(r rune) rune {
			if r >= '0' && r <= '9' {
				return r
			}
			return -1
		}, cell)
	}
	if i := strings.LastIndexAny(cell, ".,"); i > 0 {
		if whole, ok := parseCount(cell[:i], math.MaxInt64); ok {
			if _, ok := parseCount(cell[i+1:], math.MaxInt64); ok {
				return strconv.FormatInt(whole, 10)
			}
		}
	}
	return cell
}
