// Package packaging tests the units and the Debian package of the agent.
package packaging

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/plan"
	"lucidorchard/core/policy"
	"lucidorchard/point"
)

// built is the program, as a package has it.
func built(t *testing.T) string {
	dir := t.TempDir()
	out, err := exec.Command("go", "build", "-o", filepath.Join(dir, "orchard"), "../cmd/orchard").CombinedOutput()
	require.NoError(t, err, "%s", out)
	return filepath.Join(dir, "orchard")
}

func TestUnitsAreRight(t *testing.T) {
	if _, err := exec.LookPath("systemd-analyze"); err != nil {
		t.Skip("UNITS ARE NOT TESTED: systemd-analyze is not installed")
	}
	units, err := filepath.Glob("*.service")
	require.NoError(t, err)
	require.Len(t, units, 3)
	for _, unit := range units {
		out, _ := exec.Command("systemd-analyze", "verify", "--man=no", unit).CombinedOutput()
		for line := range strings.Lines(string(out)) {
			require.Contains(t, line, "/usr/bin/orchard is not executable",
				"the program is not installed here; all else is wrong: %s", out)
		}
	}
	text, err := os.ReadFile("orchard-point-load.service")
	require.NoError(t, err)
	require.Regexp(t, `(?m)^Before=.*network-pre\.target`, string(text), "the plans are there before the network")
	require.Regexp(t, `(?m)^DefaultDependencies=no`, string(text))
}

// debian makes the package of a version.
func debian(t *testing.T, program, version string) string {
	root, err := filepath.Abs("..")
	require.NoError(t, err)
	text, err := os.ReadFile("nfpm.yaml")
	require.NoError(t, err)
	dir := t.TempDir()
	config := filepath.Join(dir, "nfpm.yaml")
	require.NoError(t, os.WriteFile(config, []byte(strings.ReplaceAll(string(text), "src: bin/orchard", "src: "+
		program)), 0o600))
	file := filepath.Join(dir, version+".deb")
	make := exec.Command("go", "run", "github.com/goreleaser/nfpm/v2/cmd/nfpm@v2.43.0", "package", "--config", config,
		"--packager", "deb",
		"--target", file)
	make.Dir = root
	make.Env = append(os.Environ(), "VERSION="+version, "ARCH="+runtime.GOARCH)
	out, err := make.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return file
}

// The package installs, is upgraded with what was configured and kept, and is removed; only
// a purge forgets the plans.
func TestThePackageIsInstalledUpgradedAndRemoved(t *testing.T) {
	if _, err := exec.LookPath("dpkg"); err != nil || os.Geteuid() != 0 {
		t.Skip("THE PACKAGE IS NOT TESTED: it needs dpkg and root")
	}
	program := built(t)
	first, second := debian(t, program, "1.0.0"), debian(t, program, "1.1.0")
	root := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(root, "var/lib/dpkg/info"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(root, "var/lib/dpkg/updates"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "var/lib/dpkg/status"), nil, 0o600))
	dpkg := func(args ...string) string {
		cmd := exec.Command("dpkg", append([]string{"--root=" + root, "--force-script-chrootless", "--force-depends"},
			args...)...)
		cmd.Env = append(os.Environ(), "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin", "DPKG_ROOT="+root)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "dpkg %v: %s", args, out)
		return string(out)
	}
	at := func(path string) string { return filepath.Join(root, path) }
	dpkg("-i", first)
	for _, path := range []string{"usr/bin/orchard", "lib/systemd/system/orchard-point.service",
		"lib/systemd/system/orchard-point-load.service",
		"etc/orchard-point/environment", "var/lib/orchard-point"} {
		require.FileExists(t, at("lib/systemd/system/orchard-point.service"))
		_, err := os.Stat(at(path))
		require.NoError(t, err, path)
	}
	require.NoError(t, os.WriteFile(at("etc/orchard-point/environment"),
		[]byte("ORCHARD_SERVER=https://mine.example\n"), 0o600))
	require.NoError(t, os.WriteFile(at("var/lib/orchard-point/told.json"), []byte("{}"), 0o600))
	dpkg("-i", second)
	require.Contains(t, dpkg("-s", "orchard-point"), "Version: 1.1.0")
	text, err := os.ReadFile(at("etc/orchard-point/environment"))
	require.NoError(t, err)
	require.Contains(t, string(text), "mine.example", "what was configured stays")
	require.FileExists(t, at("var/lib/orchard-point/told.json"), "the plans stay")
	dpkg("-r", "orchard-point")
	require.NoFileExists(t, at("usr/bin/orchard"))
	require.FileExists(t, at("var/lib/orchard-point/told.json"), "the plans stay")
	dpkg("-P", "orchard-point")
	require.NoDirExists(t, at("var/lib/orchard-point"))
	require.NoDirExists(t, at("etc/orchard-point"))
}

// At boot the plans are in the kernel before an interface is up, and without an agent or a
// server.
func TestThePlansAreThereBeforeTheNetwork(t *testing.T) {
	t.Setenv("PATH", os.Getenv("PATH")+":/usr/sbin:/sbin")
	if os.Geteuid() != 0 {
		t.Skip("THE BOOT IS NOT TESTED: only root may make network namespaces")
	}
	ns := fmt.Sprintf("boot%x", os.Getpid())
	if out, err := exec.Command("ip", "netns", "add", ns).CombinedOutput(); err != nil {
		t.Skipf("THE BOOT IS NOT TESTED: the kernel refuses namespaces: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", ns).Run() })
	e, _ := estate.New([]estate.Workload{{ID: "store", Leases: []estate.Lease{{Addr: netip.MustParseAddr("10.0.0.5"),
		From:  estate.Beginning,
		Until: estate.End}}}})
	p, errs := policy.Parse("layer closing\nreject any -> workload store on any\n")
	require.Empty(t, errs)
	made := plan.NewPlanner(decide.Compile(e, p, estate.Instant{})).Plan([]int32{0}, plan.Host, plan.Both)
	raw, err := json.Marshal(point.Instructions{ID: "x", Enforces: &point.Assignment{Release: 1, ID: "x",
		Rules: made.RulesHash(), Plan: made}})
	require.NoError(t, err)
	state := t.TempDir()
	program := built(t)
	in := func(args ...string) (string, error) {
		out, err := exec.Command("ip", append([]string{"netns", "exec", ns}, args...)...).CombinedOutput()
		return string(out), err
	}
	out, err := in(program, "point", "--load", "--state", state)
	require.NoError(t, err, "nothing is kept yet: %s", out)
	require.NoError(t, os.WriteFile(filepath.Join(state, "told.json"), raw, 0o600))
	out, err = in(program, "point", "--load", "--state", state)
	require.NoError(t, err, out)
	links, err := in("ip", "-br", "link")
	require.NoError(t, err)
	require.NotContains(t, links, " UP ", "no interface is up yet")
	table, err := in("nft", "list", "table", "inet", "lucid_orchard")
	require.NoError(t, err, table)
	require.Contains(t, table, `comment "line 2 reject"`)
	require.NoError(t, os.WriteFile(filepath.Join(state, "told.json"), []byte("{broken"), 0o600))
	out, err = in(program, "point", "--load", "--state", state)
	require.Error(t, err)
	require.Contains(t, out, "the plan stored on disk cannot be applied")
	again, err := in("nft", "list", "table", "inet", "lucid_orchard")
	require.NoError(t, err)
	require.Equal(t, table, again, "what was loaded stays")
}
