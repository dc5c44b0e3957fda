package e2e

import (
	"os"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

func TestZZ(t *testing.T) {
	p := browse(t, os.Getenv("ZZ_BASE"))
	for _, x := range strings.Fields(os.Getenv("ZZ")) {
		path, name, _ := strings.Cut(x, "=>")
		p.open(path)
		p.do("settle", chromedp.Evaluate[chromedp.Void](`new Promise((r) => setTimeout(r, 2500))`, chromedp.EvalAwaitPromise))
		b, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(name, b, 0o644))
	}
}
