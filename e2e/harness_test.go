// Package e2e drives the real interface in headless Chromium against the real
// server and PostgreSQL, as a person would.
package e2e

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"lucidorchard/printing"
)

// program is the built binary, made once for all tests.
var program string

// demoData is the data of a server that was started with the demo company and stopped: a
// test that wants the company begins with a copy.
var (
	demoData string
	demoMade sync.Once
)

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "orchard-e2e-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "orchard")
	if out, err := exec.Command("go", "build", "-o", program, "../cmd/orchard").CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "%s\n%s\n", err, out)
		os.Exit(1)
	}
	if err := os.Chmod(dir, 0o755); err != nil { // the user postgres has to enter it
		panic(err)
	}
	demoData = filepath.Join(dir, "demo")
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// pids are the processes of servers (int), by their addresses.
var pids sync.Map

// start runs a server with a database of its own and gives its address.
func start(t *testing.T, args ...string) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "orchard-data-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	data := filepath.Join(dir, "data")
	if slices.Contains(args, "--demo") {
		demoMade.Do(func() {
			_, stop := run(t, demoData, "--demo")
			stop()
		})
		out, err := exec.Command("cp", "-a", demoData, data).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	base, stop := run(t, data, args...)
	t.Cleanup(stop)
	return base
}

// run starts the server and gives its address and what stops it.
func run(t *testing.T, data string, args ...string) (base string, stop func()) {
	t.Helper()
	cmd := exec.Command(program,
		append([]string{"serve", "--scratch", "--allow-receiver", "127.0.0.1", "--listen", "127.0.0.1:0", "--data",
			data, "--author", "architect",
			"--live=false", "--points=false", "--ipfix", "127.0.0.1:0", "--ipfix-tcp", "127.0.0.1:0",
			"--netflow", "off", "--sflow", "off"}, args...)...)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	log, err := os.Create(data + ".log")
	require.NoError(t, err)
	cmd.Stderr = log
	require.NoError(t, cmd.Start())
	stop = func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
		if t.Failed() {
			text, _ := os.ReadFile(log.Name())
			t.Logf("the server said:\n%s", text)
		}
		log.Close()
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		stop()
		text, _ := os.ReadFile(log.Name())
		t.Fatalf("the server did not start: %s\n%s", err, text)
	}
	base = regexp.MustCompile(`http://\S+`).FindString(line)
	pids.Store(base, cmd.Process.Pid)
	return base, stop
}

// page is a tab of a browser.
type page struct {
	t    *testing.T
	ctx  context.Context
	base string
}

// patience is how long something may take until a test fails: machines that run tests are
// slow at times, and nothing is measured by it.
const patience = 2 * time.Minute

// browse opens the interface.
func browse(t *testing.T, base string) *page {
	t.Helper()
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-quic", true),
		chromedp.Flag("force-prefers-reduced-motion", true), chromedp.Flag("disable-smooth-scrolling", true),
		chromedp.UserDataDir(t.TempDir()), chromedp.ExecPath(printing.Browser()))
	alloc, cancelAlloc := chromedp.NewExecAllocator(context.Background(), opts...)
	ctx, cancel := chromedp.NewContext(alloc)
	t.Cleanup(func() {
		_ = chromedp.Cancel(ctx)
		cancel()
		cancelAlloc()
	})
	p := &page{t, ctx, base}
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)))
	p.watchFor()
	return p
}

func (p *page) do(what string, a chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	if err := chromedp.Do(ctx, a); err != nil {
		p.fail("%s: %s", what, err)
	}
}

// fail ends the test and keeps a picture of what was on the screen.
func (p *page) fail(format string, args ...any) {
	p.t.Helper()
	if shot, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot()); err == nil {
		name := filepath.Join(os.TempDir(), "failed-"+strings.ReplaceAll(p.t.Name(), "/", "-")+".png")
		if os.WriteFile(name, shot, 0o600) == nil {
			p.t.Logf("the screen is in %s", name)
		}
	}
	p.t.Fatalf(format, args...)
}

func (p *page) open(path string) {
	p.t.Helper()
	p.do("open "+path, chromedp.Navigate(p.base+path))
}

// click presses the middle of what is visible of something. What is drawn again, or moves,
// between the look and the press is looked for again.
func (p *page) click(sel string) {
	p.t.Helper()
	for try := 1; ; try++ {
		p.see(sel)
		at := p.still(sel)
		p.do("click "+sel, chromedp.MouseClickXY(at[0], at[1]))
		if value[bool](p, `window.pressed !== false`) {
			return
		}
		if try == 5 {
			p.fail("click %s: the press does not come to it", sel)
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// still waits until what is about to be pressed can be, and has stayed where it is for a moment, gives
// where that is, and has the page note whether the press comes to it.
func (p *page) still(sel string) [2]float64 {
	p.t.Helper()
	p.until(fmt.Sprintf(`(() => {
		const all = %s
		const at = all.find((x) => x.getClientRects().length)
		if (at.closest("button")?.disabled) return false
		at.scrollIntoViewIfNeeded()
		const r = at.getClientRects()[0], now = performance.now(), here = [r.x, r.y, r.width, r.height].join()
		if (window.still?.at !== at || window.still.here !== here) window.still = { at, here, since: now }
		if (window.still.since > now - 80) return false
		const middle = (from, to, end) => (Math.max(from, 0) + Math.min(to, end)) / 2
		window.still.point = [middle(r.left, r.right, innerWidth), middle(r.top, r.bottom, innerHeight)]
		window.pressed = false
		for (const e of ["pointerdown", "click"])
			window.addEventListener(e, (x) => { if (all.some((a) => a.contains(x.target))) window.pressed = true }, { capture: true, once: true })
		return true
	})()`, all(sel)))
	return value[[2]float64](p, `window.still.point`)
}

// all is an expression of the page: the elements that a selector finds, as a list.
func all(sel string) string {
	if strings.HasPrefix(sel, "/") {
		return fmt.Sprintf(`((r) => [...Array(r.snapshotLength).keys()].map((i) => r.snapshotItem(i)))(
			document.evaluate(%q, document, null, 7))`, sel)
	}
	return fmt.Sprintf(`[...document.querySelectorAll(%q)]`, sel)
}

// see waits until something that a selector finds can be seen.
func (p *page) see(sel string) {
	p.t.Helper()
	p.until(all(sel) + `.some((x) => x.getClientRects().length && getComputedStyle(x).visibility === "visible")`)
}

// gone waits until a selector finds nothing.
func (p *page) gone(sel string) {
	p.t.Helper()
	p.until(all(sel) + `.length === 0`)
}

func (p *page) press(keys string) {
	p.t.Helper()
	p.do("press "+keys, chromedp.KeyEvent(keys))
}

func (p *page) upload(sel, file string) {
	p.t.Helper()
	p.do("upload "+file, chromedp.SetUploadFiles(chromedp.CSS(sel), []string{file}))
}

// ctrl presses a key with Ctrl.
func (p *page) ctrl(key string) {
	p.t.Helper()
	p.do("press Ctrl "+key, chromedp.KeyEvent(key, chromedp.KeyModifiers(chromedp.ModifierCtrl)))
}

// fill replaces what stands in a field.
func (p *page) fill(sel, text string) {
	p.t.Helper()
	p.click(sel)
	p.ctrl("a")
	p.press(text)
}

// button finds a button by its words.
func button(words string) string {
	return fmt.Sprintf(`//button[contains(normalize-space(.), %q)]`, words)
}

// saying finds something that shows a text.
func saying(text string) string { return fmt.Sprintf(`//*[text()[contains(., %q)]]`, text) }

// value evaluates an expression of the page.
func value[T any](p *page, js string) T {
	p.t.Helper()
	v, err := chromedp.Run(p.ctx, chromedp.Evaluate[T](js))
	if err != nil {
		p.fail("%s: %s", js, err)
	}
	return v
}

// within waits until an expression of the page is true; false: it did not come true in that time.
func (p *page) within(patience time.Duration, js string) bool {
	p.t.Helper()
	for end := time.Now().Add(patience); time.Now().Before(end); time.Sleep(40 * time.Millisecond) {
		if value[bool](p, "(() => { try { return Boolean("+js+") } catch { return false } })()") {
			return true
		}
	}
	return false
}

// until waits until an expression of the page is true.
func (p *page) until(js string) {
	p.t.Helper()
	// What throws while a view is being exchanged is not true yet; thrown inside a poll it would never end.
	careful := "(() => { try { return Boolean((" + js + ")) } catch { return false } })()"
	for end := time.Now().Add(patience); ; {
		_, err := chromedp.Run(p.ctx, chromedp.Poll[bool](careful, chromedp.WithPollingInterval(40*time.Millisecond),
			chromedp.WithPollingTimeout(patience)))
		if err == nil {
			return
		}
		if !strings.Contains(err.Error(), "context") || time.Now().After(end) { // the page was left for another
			p.fail("never came true: %s: %s", js, err)
		}
	}
}

// uncovered reads the number in Check's sentence.
func (p *page) uncovered() int {
	p.t.Helper()
	p.see("[data-uncovered]")
	return value[int](p, `Number(document.querySelector("[data-uncovered]").dataset.uncovered)`)
}

func get(t *testing.T, url string) string {
	t.Helper()
	r, err := http.Get(url)
	require.NoError(t, err)
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, r.StatusCode, string(text))
	return string(text)
}

func itoa(n int) string { return strconv.Itoa(n) }
