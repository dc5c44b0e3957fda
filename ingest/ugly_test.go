package ingest_test

import (
	"bytes"
	"fmt"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"lucidorchard/ingest"
)

// looking reads a file as it guesses it to be, with what somebody has said.
func looking(t *testing.T, file []byte, said ingest.Form) (*ingest.Look, *ingest.TrafficFile) {
	t.Helper()
	look, err := ingest.LookAt(file, true, said, 4)
	require.NoError(t, err)
	guessed := ingest.GuessFlows(look.Headings)
	for h, to := range said.Columns {
		guessed[h] = to
	}
	look.Form.Columns = guessed
	look.GuessDays()
	f, err := ingest.ReadTraffic(bytes.NewReader(file), int64(len(file)), ingest.TrafficOptions{Form: look.Form,
		Now: time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC)})
	require.NoError(t, err)
	return look, f
}

const german = "Export vom 20.11.2026;;\r\nStandort: Köln\r\n\r\n" +
	"Zeitpunkt;Quelladresse;Zieladresse;Protokoll;Zielport;Datenmenge;Aktion\r\n" +
	"20.11.2026 00:00:34;10.0.0.1;10.0.0.2;TCP;443;1.234.567;erlaubt\r\n" +
	"20.11.2026 00:01:00,5;10.0.0.1;10.0.0.2;17;53;12,0;verweigert\r\n" +
	"20.11.2026 00:02:00;10.0.0.3;10.0.0.2;6 (TCP);8080;;vielleicht\r\n"

// Semicolons, a preamble, commas in numbers, days first, words of another
// language, in every encoding.
func TestAForeignTableInEveryEncoding(t *testing.T) {
	encoded := map[string][]byte{"utf-8": []byte(german), "utf-8 with a mark": []byte("\ufeff" + german)}
	for name, e := range map[string]interface{ Bytes([]byte) ([]byte, error) }{
		"windows-1252":            charmap.Windows1252.NewEncoder(),
		"utf-16le":                unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM).NewEncoder(),
		"utf-16be with a mark":    unicode.UTF16(unicode.BigEndian, unicode.UseBOM).NewEncoder(),
		"utf-16le, with its mark": unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder(),
	} {
		raw, err := e.Bytes([]byte(german))
		require.NoError(t, err)
		encoded[name] = raw
	}
	for name, file := range encoded {
		t.Run(name, func(t *testing.T) {
			look, f := looking(t, file, ingest.Form{Zone: "Europe/Oslo"})
			require.True(t, strings.HasPrefix(name, look.Form.Encoding), look.Form.Encoding)
			require.Equal(t, ";", look.Form.Delimiter)
			require.Equal(t, 4, look.Form.Header)
			require.Equal(t, ingest.Mapping{"Zeitpunkt": "start", "Quelladresse": "src", "Zieladresse": "dst",
				"Protokoll": "proto", "Zielport": "dport", "Datenmenge": "bytes", "Aktion": "outcome"},
				look.Form.Columns)
			require.Equal(t, []string{"10.0.0.1 → 10.0.0.2 tcp/443 ×1 carried",
				"10.0.0.1 → 10.0.0.2 udp/53 ×1 dropped"},
				said(f))
			require.Equal(t, "2026-11-19T23:00:34Z", f.Records[0].Start.String())
			require.Equal(t, "2026-11-19T23:01:00.5Z", f.Records[1].Start.String())
			require.Equal(t, []int64{1_234_567, 12}, []int64{f.Records[0].Bytes, f.Records[1].Bytes})
			require.Equal(t, []ingest.BadKind{{Column: "outcome", Rows: 1, Lines: []int{7},
				Reason: `found "vielleicht", expected carried, dropped or blank`}}, f.Kinds)
			words := map[string]string{}
			for _, w := range look.Words() {
				words[w.Word] = w.As
			}
			require.Equal(t, map[string]string{"erlaubt": "carried", "verweigert": "dropped", "vielleicht": "",
				"TCP": "tcp", "17": "17", "6 (TCP)": "6"}, words)
		})
	}
	_, f := looking(t, []byte(german), ingest.Form{Outcomes: map[string]string{"vielleicht": "unknown"}})
	require.Zero(t, f.Bad)
}

func TestTimesAsTheyAreWritten(t *testing.T) {
	for cell, want := range map[string]string{
		"20.11.2026 00:00:34":       "2026-11-20T00:00:34Z",
		"2026-11-20 00:00":          "2026-11-20T00:00:00Z",
		"20/11/2026 13:05:00":       "2026-11-20T13:05:00Z",
		"1795132834":                "2026-11-20T00:00:34Z",
		"1795132834,25":             "2026-11-20T00:00:34.25Z",
		"1795132834123":             "2026-11-20T00:00:34.123Z",
		"1795132834123456":          "2026-11-20T00:00:34.123456Z",
		"2026-11-20T01:00:34+0100":  "2026-11-20T00:00:34Z",
		"Nov 20, 2026 00:00:34":     "2026-11-20T00:00:34Z",
		"2026/11/20 00:00:34.5":     "2026-11-20T00:00:34.5Z",
		"20261120000034":            "2026-11-20T00:00:34Z",
		"20 Nov 2026 00:00:34":      "2026-11-20T00:00:34Z",
		"11/20/2026 00:00:34":       "",
		"2026-11-20 01:00:34+01:00": "2026-11-20T00:00:34Z",
	} {
		file := fmt.Sprintf("time;source;destination;protocol;port\n%s;10.0.0.1;10.0.0.2;tcp;443\n", cell)
		_, f := looking(t, []byte(file), ingest.Form{Days: "day-first"})
		if want == "" {
			require.Equal(t, 1, f.Bad, cell)
			_, f = looking(t, []byte(file), ingest.Form{})
			require.Equal(t, "2026-11-20T00:00:34Z", f.Records[0].Start.String(), "months first, as the 20 tells")
			continue
		}
		require.Zero(t, f.Bad, "%s: %v", cell, f.Errors)
		require.Equal(t, want, f.Records[0].Start.String(), cell)
	}
}

func TestOtherTables(t *testing.T) {
	for name, file := range map[string]string{
		"tabs": "start\tsrcaddr\tdstaddr\tproto\tdstport\n2026-11-20 00:00:34\t10.0.0.1\t10.0.0.2\t6\t443\n",
		"bars": "start|srcip|dstip|proto|dport|\n2026-11-20 00:00:34|10.0.0.1|10.0.0.2|6|443|\n",
		"quotes": "\"start\",\"Source, IP\",\"Destination IP\",\"proto\",\"Dest Port\"\n\"2026-11-20 " +
			"00:00:34\",\"10.0.0.1\",\"10.0.0.2\",\"tcp\",\"443\"\n",
		"French": "Horodatage;Adresse source;Adresse destination;Protocole;Port destination\n20/11/2026 " +
			"00:00:34;10.0.0.1;10.0.0.2;TCP;443\n",
		"Spanish": "Fecha y hora;IP de origen;IP de destino;Protocolo;Puerto de destino\n20/11/2026 " +
			"00:00:34;10.0.0.1;10.0.0.2;TCP;443\n",
		"Italian": "Data e ora;Indirizzo sorgente;Indirizzo destinazione;Protocollo;Porta " +
			"destinazione\n20/11/2026 00:00:34;10.0.0.1;10.0.0.2;TCP;443\n",
		"Dutch": "Tijdstip;Bron-IP;Doel-IP;Protocol;Doelpoort\n20-11-2026 00:00:34;10.0.0.1;10.0.0.2;TCP;443\n",
		"Swedish": "Tidpunkt;Källadress;Måladress;Protokoll;Målport\n2026-11-20 " +
			"00:00:34;10.0.0.1;10.0.0.2;TCP;443\n",
		"Polish": "Czas;Adres źródłowy;Adres docelowy;Protokół;Port docelowy\n20.11.2026 " +
			"00:00:34;10.0.0.1;10.0.0.2;TCP;443\n",
		"JSON list":   `[{"time": 1795132834, "source": {"ip": "10.0.0.1"}, "destination": {"ip": "10.0.0.2", "port": 443}, "proto": "TCP"}]`,
		"nested JSON": `{"meta": {"n": 1}, "data": {"flows": [{"ts": "2026-11-20T00:00:34Z", "src_ip": "10.0.0.1", "dst_ip": "10.0.0.2", "dst_port": 443, "proto": 6}]}}`,
		"JSON Lines": "{\"startTime\": 1795132834, \"srcIp\": \"10.0.0.1\", \"dstIp\": \"10.0.0.2\", \"dstPort\": " +
			"443, \"protocol\": \"tcp\"}\n",
	} {
		t.Run(name, func(t *testing.T) {
			look, f := looking(t, []byte(file), ingest.Form{})
			require.Zero(t, f.Bad, "%v %v", f.Errors, look.Form)
			require.Equal(t, []string{"10.0.0.1 → 10.0.0.2 tcp/443 ×1 "}, said(f))
			require.Equal(t, "2026-11-20T00:00:34Z", f.Records[0].Start.String())
		})
	}
}

// Rows that can hardly be meant are asked about, and left out until somebody says
// yes.
func TestRowsThatCanHardlyBeMeant(t *testing.T) {
	file := []byte("start,src,dst,proto,dport\n2026-11-20T00:00:00Z,10.0.0.1,10.0.0.2,tcp,443\n" +
		"2026-11-20T00:00:00Z,10.0.0.1,10.0.0.2,tcp,\n2098-01-01T00:00:00Z,10.0.0.1,10.0.0.2,tcp,22\n" +
		"1970-01-01T00:00:00Z,10.0.0.1,10.0.0.2,tcp,22\n2026-11-20T00:00:00Z,10.0.0.1,10.0.0.2,icmp,\n")
	now := time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC)
	f := traffic(t, file, ingest.TrafficOptions{Now: now})
	require.Len(t, f.Records, 2)
	require.Equal(t, []int{2, 1}, []int{f.Held, f.Bad})
	require.Equal(t, []string{"port", "time"}, []string{f.Questions[0].Kind, f.Questions[1].Kind})
	require.Equal(t, [][]int{{3}, {4}}, [][]int{f.Questions[0].Lines, f.Questions[1].Lines})
	f = traffic(t, file, ingest.TrafficOptions{Now: now, Accept: []string{"port", "time"}})
	require.Len(t, f.Records, 4)
	require.Zero(t, f.Held)
	require.Len(t, f.Questions, 2, "it is still said")
}

func TestFilesThatAreNone(t *testing.T) {
	for file, want := range map[string]string{
		"":                                "found an empty file",
		"\n \n":                           "found an empty file",
		strings.Repeat("a,", 6000) + "\n": "found a header of 6001 columns",
		`{"a": [1, 2]`:                    "found no",
		`[]`:                              "found no objects",
	} {
		_, err := ingest.LookAt([]byte(file), true, ingest.Form{}, 4)
		require.ErrorContains(t, err, want, "%.20q", file)
	}
	for want, form := range map[string]ingest.Form{
		"encoding: ": {Encoding: "ebcdic"}, "delimiter: ": {Delimiter: "x"}, "zone: ": {Zone: "Mars"},
		"days: ": {Days: "year"}, "outcomes: ": {Outcomes: map[string]string{"a": "b"}},
		"protocols: ": {Protocols: map[string]string{"a": "b"}}, "header: ": {Header: 9999},
	} {
		require.ErrorContains(t, form.Check(), want)
	}
	_, err := ingest.LookAt([]byte(`{"data": 1}`), true, ingest.Form{Pointer: "/data"}, 4)
	require.ErrorContains(t, err, `found no list at "/data"`)
}

// A character far behind the beginning tells of another encoding.
func TestAnEncodingThatShowsLate(t *testing.T) {
	long := strings.Repeat("x", 1<<19)
	require.False(t, ingest.WesternBehind(strings.NewReader(long+"Köln"+long)))
	for _, n := range []int{0, 1, 2, 3} {
		require.False(t, ingest.WesternBehind(strings.NewReader(strings.Repeat("x", 1<<18-n)+"ö€😀"+long)))
	}
	require.True(t, ingest.WesternBehind(strings.NewReader(long+"K\xf6ln"+long)))
}

// What the product exports of conversations, it takes as flows.
func TestOwnExportsComeBack(t *testing.T) {
	table := "client,client_address,server,server_address,service,verdict,rule,connections,bytes,carried,dropped,first,last\n" +
		"a,10.0.0.1,b,10.0.0.2,tcp/443,permit,4,10,1000,7,3,2026-11-20T00:00:00Z,2026-11-20T05:00:00Z\n" +
		",10.0.0.3,b,10.0.0.2,icmp/8.0,uncovered,,1,0,0,1,2026-11-20T00:00:00Z,2026-11-20T00:00:00Z\n" +
		",10.0.0.3,b,10.0.0.2,proto/47,uncovered,,1,0,1,0,2026-11-20T00:00:00Z,2026-11-20T00:00:00Z\n"
	lines := `{"client":{"addr":"10.0.0.1","name":"a"},"server":{"addr":"10.0.0.2"},"service":"tcp/443","verdict":"permit","connections":10,"bytes":1000,"carried":7,"dropped":3,"first":"2026-11-20T00:00:00Z","last":"2026-11-20T05:00:00Z","spark":[1,2]}` + "\n"
	for _, file := range []string{table, lines} {
		form := ingest.ExportForm([]byte(file), "flows")
		require.NotNil(t, form)
		f, err := ingest.ReadTraffic(strings.NewReader(file), int64(len(file)), ingest.TrafficOptions{Form: *form,
			Now: time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC)})
		require.NoError(t, err)
		require.Empty(t, f.Errors)
		require.Equal(t, []string{"10.0.0.1 → 10.0.0.2 tcp/443 ×7 ", "10.0.0.1 → 10.0.0.2 tcp/443 ×3 dropped"},
			said(f)[:2])
		require.Equal(t, "2026-11-20T05:00:00Z", f.Records[0].End.String())
		if file == table {
			require.Equal(t, []string{"10.0.0.3 → 10.0.0.2 icmp/8.0 ×1 dropped", "10.0.0.3 → 10.0.0.2 proto/47 ×1 "},
				said(f)[2:])
		}
	}
	require.Nil(t, ingest.ExportForm([]byte("start,src,dst,proto,dport\n"), "flows"))
}

// Of a list of objects, each member is kept of all of them; members that come too
// late to be a column, and what is no object, are said.
func TestListsInRowsOfJSON(t *testing.T) {
	var b strings.Builder
	b.WriteString(`[{"id": "a", "nics": [{"ip": "10.0.0.1"}, {"ip": "10.0.0.2", "vlan": 4}]}, 7`)
	for i := range 600 {
		fmt.Fprintf(&b, `, {"id": "w%d", "nics": [], "x": {"owner%d": "crew"}}`, i, max(0, i-590))
	}
	b.WriteString("]")
	f, err := ingest.WorkloadsOf(strings.NewReader(b.String()), "plan",
		ingest.Form{Pointer: "/", Columns: ingest.Mapping{"nics/ip": "addresses", "nics/vlan": "tag:vlan",
			"x/owner0": ""}})
	require.NoError(t, err)
	require.Len(t, f.Workloads, 601)
	require.Len(t, f.Workloads[0].Leases, 2)
	require.Equal(t, "10.0.0.2", f.Workloads[0].Leases[1].Addr.String())
	require.Len(t, f.Errors, 1)
	require.ErrorContains(t, f.Errors[0], "found no object")
	require.Len(t, f.Warnings, 1)
	require.Contains(t, f.Warnings[0], "x/owner1, x/owner2")
}

// A broken line among objects is one bad row, wherever it stands; the others are
// read.
func TestABrokenLineOfJSON(t *testing.T) {
	var b strings.Builder
	bad := map[int]string{3: `{"host": "w3", "addr": }`, 700: `{"host": "w700", "ad`, 701: `<<<>>>`,
		1400: `{"host": "w1400"`}
	for i := range 1500 {
		if text, ok := bad[i]; ok {
			b.WriteString(text + "\n")
			continue
		}
		fmt.Fprintf(&b, "{\"host\": \"w%d\", \"addr\": \"10.1.%d.%d\"}\n\n", i, i/200, i%200)
	}
	b.WriteString(`{"host": "cut off", "addr": "10`)
	f, err := ingest.WorkloadsOf(strings.NewReader(b.String()), "plan",
		ingest.Form{Pointer: "-", Columns: ingest.Mapping{"host": "id", "addr": "addresses"}})
	require.NoError(t, err)
	require.Equal(t, 1501, f.Rows)
	require.Len(t, f.Workloads, 1496)
	require.Len(t, f.Errors, 5)
	for i, line := range []int{4, 701, 702, 1401, 1501} {
		require.Equal(t, line, f.Errors[i].Line)
		require.ErrorContains(t, f.Errors[i], "found broken JSON")
	}
}

func TestAFileOfMostlyBrokenLinesIsReadToItsEnd(t *testing.T) {
	var b strings.Builder
	const n = 50000
	for i := range n {
		fmt.Fprintf(&b, "{\"host\": \"w%d\", \"addr\": \"10.1.%d.%d\"}\n", i, i/200, i%200)
		fmt.Fprintf(&b, "{\"host\": \"w%d\" \"addr\"\n", i)
	}
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	f, err := ingest.WorkloadsOf(strings.NewReader(b.String()), "plan",
		ingest.Form{Pointer: "-", Columns: ingest.Mapping{"host": "id", "addr": "addresses"}})
	runtime.ReadMemStats(&after)
	require.NoError(t, err)
	require.Equal(t, 2*n, f.Rows)
	require.Len(t, f.Workloads, n)
	require.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(1<<30),
		"each broken line must not cost a buffer of its own")
}

// Our own headings are read as freely as any other: what is written in our way stays as it is, the
// rest is read as in a foreign table; strictly, as the language says, it is refused.
func TestOwnHeadingsAreReadAsFreelyAsOthers(t *testing.T) {
	rows := strings.Join([]string{
		"start,end,src,dst,proto,dport,bytes,connections,outcome",
		"2026-11-20T10:00:00Z,,10.0.0.1,10.0.0.2,tcp,443,1000,1,carried",
		"1795168800,1795168860,10.0.0.3,10.0.0.2,TCP,443,\"12,345\",2,accepted",
		"20.11.2026 10:00:00,,10.0.0.4,10.0.0.2,6,443,1 000,1,",
		"never,,10.0.0.5,10.0.0.2,tcp,443,1,1,carried",
	}, "\n") + "\n"
	f := traffic(t, []byte(rows), ingest.TrafficOptions{Now: time.Date(2026, 11, 21, 0, 0, 0, 0, time.UTC)})
	require.Equal(t, []string{"10.0.0.1 → 10.0.0.2 tcp/443 ×1 carried", "10.0.0.3 → 10.0.0.2 tcp/443 ×2 carried",
		"10.0.0.4 → 10.0.0.2 tcp/443 ×1 "}, said(f))
	for _, r := range f.Records {
		require.Equal(t, "2026-11-20T10:00:00Z", r.Start.String())
	}
	require.EqualValues(t, 12345, f.Records[1].Bytes)
	require.Equal(t, 1, f.Bad)
	require.Equal(t, "start", f.Errors[0].Column)

	strict, err := ingest.NewFlows(strings.NewReader(rows))
	require.NoError(t, err)
	_, err = strict.Next()
	require.NoError(t, err)
	_, err = strict.Next()
	require.ErrorContains(t, err, "1795168800")
}

// A text whose lines end with carriage returns alone has lines.
func TestLinesThatEndWithCarriageReturns(t *testing.T) {
	rows := "start,src,dst,proto,dport\n2026-11-20T10:00:00Z,10.0.0.1,10.0.0.2,tcp,443\n" +
		"2026-11-20T10:00:00Z,10.0.0.3,10.0.0.2,tcp,443\n"
	want := said(traffic(t, []byte(rows), ingest.TrafficOptions{}))
	require.Len(t, want, 2)
	old := []byte(strings.ReplaceAll(rows, "\n", "\r"))
	look, err := ingest.LookAt(old, true, ingest.Form{}, 5)
	require.NoError(t, err)
	require.Equal(t, []string{"start", "src", "dst", "proto", "dport"}, look.Headings)
	require.Len(t, look.First, 2)
	require.Equal(t, want, said(traffic(t, old, ingest.TrafficOptions{Form: look.Form})))
}
