package main

import (
	"compress/gzip"
	"encoding/csv"
	"encoding/json"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
	"lucidorchard/ingest"
	"lucidorchard/ingest/wire"
)

// The test binary is the program itself when it is told so.
func TestMain(m *testing.M) {
	if os.Getenv("ORCHARD_AS_PROGRAM") != "" {
		os.Exit(run(os.Args[1:]))
	}
	os.Exit(m.Run())
}

type outcome struct {
	status      int
	out, errors string
}

func orchard(t *testing.T, stdin string, args ...string) outcome {
	t.Helper()
	cmd := exec.Command(os.Args[0], args...)
	cmd.Env = append(os.Environ(), "ORCHARD_AS_PROGRAM=1")
	cmd.Stdin = strings.NewReader(stdin)
	var out, errs strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	if err != nil {
		require.IsType(t, &exec.ExitError{}, err)
	}
	return outcome{cmd.ProcessState.ExitCode(), out.String(), errs.String()}
}

func write(t require.TestingT, dir, name, text string) string {
	f := filepath.Join(dir, name)
	require.NoError(t, os.WriteFile(f, []byte(text), 0o600))
	return f
}

const workloads = "id,addresses,tag:app,tag:env,from,until\n" +
	"w1,10.0.0.1,booking,live,,\n" +
	"w2,10.0.0.2 ::ffff:10.0.0.3,fares,Live,,2026-11-20T00:00:00Z\n" +
	"w3,10.0.0.2,fares,trial,2026-11-20T00:00:00Z,\n" +
	"w1,10.0.0.9,,,2026-11-20t00:00:00z,\n"

func TestCheck(t *testing.T) {
	dir := t.TempDir()
	w := write(t, dir, "w.csv", "\ufeff"+workloads)
	p := write(t, dir, "p.orchard",
		"# who\ngroup live = env is live\nlayer l\n\npermit live -> live on tcp/443 same env\nreject any -> live "+
			"\\\n  on any\n")
	f := write(t, dir, "f.csv", "start,src,dst,proto,dport,colour\r\n"+
		"2026-11-19T23:59:59.999Z,10.0.0.1,10.0.0.2,tcp,443,red\r\n"+
		"2026-11-20T01:00:00+01:00,10.0.0.1,10.0.0.2,6,0443,red\r\n\r\n"+
		"2026-11-20T00:00:00Z,10.0.0.2,10.0.0.1,ICMP,,\r\n"+
		"2026-11-20T00:00:00Z,10.0.0.2,10.0.0.300,tcp,1,\r\n"+
		"2026-11-20T00:00:00Z,10.0.0.2,10.0.0.1,tcp,1\r\n"+
		"2026-11-20T00:00:00Z,10.0.0.9,::ffff:10.0.0.1,47,65536,\r\n"+
		"2026-11-20T00:00:00Z,10.0.0.9,::ffff:10.0.0.1,47,7,\r\n")
	got := orchard(t, "", "check", "--workloads", w, "--policy", p, "--flows", f, "--summary",
		filepath.Join(dir, "s.json"))
	require.Zero(t, got.status, got.errors)
	require.Equal(t, "row,verdict,rule\n1,permit,5\n2,uncovered,\n3,reject,6\n4,error,\n5,error,\n6,error,\n7,reject,6\n", got.out)
	for _, want := range []string{"f.csv:6: column dst: found \"10.0.0.300\"", "f.csv:7: found 5 cells, expected 6",
		"f.csv:8: column dport", `warning: column "colour"`} {
		require.Contains(t, got.errors, want)
	}
	var s checkSummary
	text, err := os.ReadFile(filepath.Join(dir, "s.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &s))
	require.Equal(t, checkSummary{7, 1, 2, 1, 3, map[string]int{"5": 1, "6": 2}, nil}, s)
}

func TestUnusableInputEndsWithTwo(t *testing.T) {
	dir := t.TempDir()
	w, p := write(t, dir, "w.csv", workloads), write(t, dir, "p.orchard", "")
	f := write(t, dir, "f.csv", "start,src,dst,proto,dport\n")
	file := func(name, text string) string { return write(t, dir, name, text) }
	for _, c := range []struct {
		name string
		args []string
		want string
	}{
		{"nothing", []string{"check"}, "required flag"},
		{"an unknown command", []string{"chek"}, "unknown command"},
		{"a missing file", []string{"check", "--workloads", w, "--policy", "nowhere", "--flows", f}, "nowhere"},
		{"two from standard input", []string{"check", "--workloads", "-", "--policy", "-", "--flows", f},
			"standard input for one"},
		{"a time", []string{"check", "--workloads", w, "--policy", p, "--flows", f, "--as-of", "noon"}, "--as-of"},
		{"a balance", []string{"derive", "--workloads", w, "--policy", p, "--flows", f, "--balance", "NaN"},
			"--balance"},
		{"a policy", []string{"check", "--workloads", w, "--policy",
			file("bad.orchard", "layer l\n\npermit a -> any on any"), "--flows", f},
			"bad.orchard:3:8: found the unknown group a"},
		{"flows without a column", []string{"check", "--workloads", w, "--policy", p, "--flows",
			file("f2.csv", "start,src,dst,proto\n")}, "f2.csv:1: column dport"},
		{"a column twice", []string{"check", "--workloads", w, "--policy", p, "--flows",
			file("f3.csv", "start,src,dst,proto,dport,src\n")}, "f3.csv:1: column src: found the column twice"},
		{"an empty file", []string{"check", "--workloads", file("w2.csv", ""), "--policy", p, "--flows", f},
			"w2.csv:1: found an empty file"},
		{"a short row", []string{"assert", "--workloads", file("w3.csv", "id,os\nw1\n"), "--policy", p},
			"w3.csv:2: found 1 cells, expected 2"},
		{"a bad address", []string{"assert", "--workloads", file("w4.csv", "id,addresses\nw1,10.0.0.1 10.0.0.01\n"),
			"--policy", p}, "w4.csv:2: column addresses"},
		{"a row that disagrees", []string{"assert", "--workloads", file("w5.csv", "id,os\nw1,\nw1,linux\n"),
			"--policy", p}, "w5.csv:3: column os"},
		{"a conflict", []string{"assert", "--workloads", file("w6.csv",
			"id,addresses\nw1,10.0.0.1\nw2,::ffff:10.0.0.1\n"), "--policy", p},
			`w6.csv:3: column addresses: workloads "w1" and "w2" both claim address 10.0.0.1`},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := orchard(t, "", c.args...)
			require.Equal(t, 2, got.status, got.out+got.errors)
			require.Contains(t, got.errors, c.want)
			require.NotContains(t, got.errors, "goroutine")
		})
	}
}

func TestEmptyLeasesClaimNothing(t *testing.T) {
	dir := t.TempDir()
	w := write(t, dir, "w.csv",
		"id,addresses,from,until\nw1,10.0.0.1,2026-01-02T00:00:00Z,2026-01-01T00:00:00Z\n"+
			"w2,10.0.0.1,2026-01-02T00:00:00Z,\n")
	got := orchard(t, "layer l\npermit workload w2 -> any on any\nassert always workload w2 -> any on any\nassert "+
		"always workload w1 -> any on any", "assert", "--workloads", w, "--policy", "-")
	require.Equal(t, outcome{0,
		"line,kind,result,client,server,service,rule\n3,always,holds,,,,\n4,always,holds,,,,\n", ""}, got)
}

func TestAssertStatusAndCounterexample(t *testing.T) {
	dir := t.TempDir()
	w := write(t, dir, "w.csv", workloads)
	p := write(t, dir, "p.orchard",
		"group live = env is live\nlayer l\npermit any -> live on tcp/443\nassert never outside -> live on "+
			"tcp/442-443\nassert only live -> live on icmp/8\n")
	got := orchard(t, "", "assert", "--workloads", w, "--policy", p, "--as-of", "2026-11-01T00:00:00Z")
	require.Equal(t, 1, got.status)
	rows, err := csv.NewReader(strings.NewReader(got.out)).ReadAll()
	require.NoError(t, err)
	require.Equal(t, []string{"4", "never", "broken"}, rows[1][:3])
	require.Equal(t, []string{"tcp/443", "3"}, rows[1][5:])
	require.Equal(t, []string{"5", "only", "open"}, rows[2][:3])
	require.Equal(t, []string{"icmp/8.0", ""}, rows[2][5:])
}

func TestFormat(t *testing.T) {
	dir := t.TempDir()
	ugly := write(t, dir, "p.orchard", "\n\nlayer   l\r\npermit nobody ->any on tcp/0443   # kept\n\n\n# end\n")
	got := orchard(t, "", "format", "--policy", ugly)
	require.Equal(t, outcome{0, "layer l\npermit nobody -> any on tcp/443  # kept\n\n# end\n", ""}, got)
	require.Equal(t, 1, orchard(t, "", "format", "--policy", ugly, "--check").status)
	require.Equal(t, outcome{0, "", ""}, orchard(t, got.out, "format", "--policy", "-", "--check"))
	require.Equal(t, outcome{0, "", ""}, orchard(t, "", "format", "--policy", "-"))
}

func TestDeriveKeepsWhatStood(t *testing.T) {
	dir := t.TempDir()
	require.Zero(t, orchard(t, "", "demo", "--out", dir, "--scale", "150", "--days", "4", "--end",
		"2026-11-23T00:00:00Z").status)
	at := func(name string) string { return filepath.Join(dir, name) }
	p := write(t, dir, "p.orchard",
		"layer guardrails # first\r\nreject outside -> any on tcp/22\r\n\r\n# the rest\r\nlayer closing\r\nreject "+
			"any -> any on any")
	args := []string{"derive", "--workloads", at("workloads.csv"), "--policy", p, "--flows", at("flows.csv"),
		"--summary", at("s.json"), "--as-of", "2026-11-23T00:00:00Z"}
	got := orchard(t, "", args...)
	require.Zero(t, got.status, got.errors)
	require.Equal(t, got, orchard(t, "", args...), "the same input gives the same policy")
	require.Contains(t, got.errors, "set aside as ")
	given, lines := strings.Split("layer guardrails # first\r\nreject outside -> any on tcp/22\r\n\r\n# the "+
		"rest\r\nlayer closing\r\nreject any -> any on any", "\n"), strings.Split(got.out, "\n")
	for i, to := range policy.Follow(given, lines) {
		require.NotZero(t, to, "%q is gone", given[i])
	}
	require.Less(t, strings.Index(got.out, "layer allowances"), strings.Index(got.out, "# the rest"))
	var s deriveSummary
	text, err := os.ReadFile(at("s.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &s))
	require.Equal(t, s.Rules, strings.Count(got.out, "\npermit "))
	require.Greater(t, s.Covered, s.Considered/2)
	require.LessOrEqual(t, s.Covered, s.Considered)
	require.NotNil(t, s.Gone)
	require.Positive(t, s.Fill)
	again := orchard(t, got.out, "derive", "--workloads", at("workloads.csv"), "--policy", "-", "--flows",
		at("flows.csv"))
	require.Equal(t, got.out, again.out, "what is derived is not derived again")
}

// Random estates, policies and flows through the files and back: each verdict
// and deciding line is that of the plain walk.
func TestCheckAgreesWithWalk(t *testing.T) {
	dir := t.TempDir()
	rapid.Check(t, func(t *rapid.T) {
		e, text := sample.Estate(t), sample.Policy(t)
		p, errs := policy.Parse(text)
		require.Empty(t, errs)
		asOf := sample.Instant(t)
		var a, b strings.Builder
		w := csv.NewWriter(&a)
		require.NoError(t, ingest.WriteWorkloads(w, e.Workloads()))
		w.Flush()
		w = csv.NewWriter(&b)
		require.NoError(t, w.Write(ingest.FlowHeader))
		walk := decide.NewWalk(e, p, asOf)
		want := []string{"row,verdict,rule"}
		for row := range 30 {
			r := flow.Record{Start: sample.Instant(t), Client: rapid.SampledFrom(sample.Addresses).Draw(t, "client"),
				Server: rapid.SampledFrom(sample.Addresses).Draw(t, "server"),
				Point:  rapid.SampledFrom(sample.Points).Draw(t, "point"), Connections: 1}
			r.End = r.Start
			require.NoError(t, w.Write(ingest.FlowRow(r)))
			rule := walk.Decide(e.At(r.Client, r.Start), e.At(r.Server, r.Start), r.Point)
			line := ""
			if rule != nil {
				line = strconv.Itoa(rule.Line)
			}
			want = append(want, strconv.Itoa(row+1)+","+decide.VerdictOf(rule).String()+","+line)
		}
		w.Flush()
		in := inputs{write(t, dir, "w.csv", a.String()), write(t, dir, "p.orchard", text),
			write(t, dir, "f.csv", b.String()), asOf.Time().Format(time.RFC3339)}
		require.NoError(t, check(in, checkOptions{out: filepath.Join(dir, "v.csv")}))
		got, err := os.ReadFile(filepath.Join(dir, "v.csv"))
		require.NoError(t, err)
		require.Equal(t, strings.Join(want, "\n")+"\n", string(got), text)
	})
}

func TestEveryPointSurvivesTheFile(t *testing.T) {
	for _, pt := range sample.Points {
		row := strings.Join(ingest.FlowRow(flow.Record{Client: sample.Addresses[0], Server: sample.Addresses[1],
			Point: pt}), ",")
		f, err := ingest.NewFlows(strings.NewReader(strings.Join(ingest.FlowHeader, ",") + "\n" + row))
		require.NoError(t, err)
		r, err := f.Next()
		require.NoError(t, err)
		require.Equal(t, pt, r.Point)
		if r, ok, err := service.ParseSpec(pt.String()); pt.Port() != service.UnknownType {
			require.True(t, ok && err == nil && r == service.Range{Lo: pt, Hi: pt}, pt.String())
		}
	}
}

// The command line reads what the interface reads: objects, IPFIX files and captures as
// they are, other tables if it is to guess; without that, a file without our columns cannot
// be used.
func TestFlowsOfOtherPrograms(t *testing.T) {
	dir := t.TempDir()
	p := write(t, dir, "p.orchard", "group live = env is live\nlayer l\npermit live -> live on tcp/443\n")
	w := write(t, dir, "w.csv", "id,addresses,tag:env\na,10.0.0.1,live\nb,10.0.0.2,live\n")
	check := func(name, text string, more ...string) outcome {
		return orchard(t, "", append([]string{"check", "--workloads", w, "--policy", p, "--flows",
			write(t, dir, name, text)}, more...)...)
	}
	const one = "row,verdict,rule\n1,permit,3\n"
	lines := check("f.jsonl",
		`{"srcaddr":"10.0.0.1","dstaddr":"10.0.0.2","dstport":443,"protocol":6,"start":1795168800,"action":"ACCEPT"}`+
			"\n")
	require.Equal(t, one, lines.out, lines.errors)
	own := check("own.jsonl",
		`{"start":"2026-11-20T14:02:00Z","src":"10.0.0.1","dst":"10.0.0.2","proto":"tcp","dport":443}`+"\n")
	require.Equal(t, one, own.out, own.errors)
	array := check("own.json",
		`{"flows":[{"start":"2026-11-20T14:02:00Z","src":"10.0.0.1","dst":"10.0.0.2","proto":"tcp","dport":443}]}`)
	require.Equal(t, one, array.out, array.errors)
	now := flow.MicrosOf(time.Date(2026, 11, 20, 14, 2, 0, 0, time.UTC))
	e := wire.Exporter{Domain: 3}
	ipfix := check("f.ipfix",
		string(append(e.Templates(now),
			e.Message(now, []flow.Observation{{Src: netip.MustParseAddr("10.0.0.1"),
				Dst:     netip.MustParseAddr("10.0.0.2"),
				SrcPort: 50000, DstPort: 443, Proto: service.TCP, Flags: flow.SYN, HasFlags: true, Start: now - 5e6,
				End:     now,
				Packets: 5, Bytes: 500}})...)))
	require.Equal(t, one, ipfix.out, ipfix.errors)
	const log = "version srcaddr dstaddr srcport dstport protocol packets bytes start end action\n2 10.0.0.1 10.0.0.2 50000 443 6 10 1200 1795168800 1795168805 ACCEPT\n"
	strict := check("flow.log", log)
	require.Equal(t, 2, strict.status)
	require.Contains(t, strict.errors, "expected the columns start, src, dst, proto")
	guessed := check("flow.log", log, "--guess")
	require.Equal(t, one, guessed.out, guessed.errors)
	broken := check("f.json", `[{"src":`)
	require.Equal(t, 2, broken.status)
	require.NotEmpty(t, broken.errors)
}

// Files packed with gzip or Zstandard are read as what is in them, also from standard
// input; one that is damaged ends with where and why.
func TestPackedFilesAreRead(t *testing.T) {
	dir := t.TempDir()
	p := write(t, dir, "p.orchard", "group live = env is live\nlayer l\npermit live -> live on tcp/443\n")
	f := write(t, dir, "f.csv", "start,src,dst,proto,dport\n"+
		strings.Repeat("2026-11-19T23:59:59.999Z,10.0.0.1,10.0.0.2,tcp,443\n", 50))
	w := write(t, dir, "w.csv", workloads)
	want := orchard(t, "", "check", "--workloads", w, "--policy", p, "--flows", f)
	require.Equal(t, 0, want.status, want.errors)
	pack := func(text string) string {
		var b strings.Builder
		z := gzip.NewWriter(&b)
		_, err := z.Write([]byte(text))
		require.NoError(t, err)
		require.NoError(t, z.Close())
		return b.String()
	}
	raw, err := os.ReadFile(f)
	require.NoError(t, err)
	packed := pack(string(raw))
	z := write(t, dir, "f.csv.gz", packed)
	wz := write(t, dir, "w.csv.gz", pack(workloads))
	require.Equal(t, want, orchard(t, "", "check", "--workloads", wz, "--policy", p, "--flows", z))
	require.Equal(t, want, orchard(t, packed, "check", "--workloads", w, "--policy", p, "--flows", "-"))
	bad := orchard(t, "", "check", "--workloads", w, "--policy", p, "--flows",
		write(t, dir, "cut.csv.gz", packed[:len(packed)-9]))
	require.Equal(t, 2, bad.status)
	require.Contains(t, bad.errors, "the gzip file ends too soon")
}
