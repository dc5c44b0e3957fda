// Package printing makes PDFs of pages of the interface, with the browser of the machine
// where there is one.
package printing

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"time"

	"github.com/chromedp/chromedp"
)

// ErrNone reports that no browser was found.
var ErrNone = errors.New("the server has no browser to make a PDF with. Print the page with your browser, or " +
	"install one on the server (Debian: apt install chromium-headless-shell)")

// patience is how long a page may take.
const patience = time.Minute

// press lets one page be printed at a time: a browser takes some hundred MB.
var press = make(chan struct{}, 1)

// Browser returns the path of a browser that prints, the lightest one that is installed; blank: there
// is none.
func Browser() string {
	for _, name := range []string{"chromium-headless-shell", "chromium", "chromium-browser", "chrome"} {
		if path, err := exec.LookPath(name); err == nil {
			return path
		}
	}
	return ""
}

// PDF prints the page at an address on A4, as soon as it holds an element that matches a
// selector.
func PDF(ctx context.Context, address, selector string) ([]byte, error) {
	browser := Browser()
	if browser == "" {
		return nil, ErrNone
	}
	select { // whoever does not wait any more is not printed for
	case press <- struct{}{}:
		defer func() { <-press }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	dir, err := os.MkdirTemp("", "orchard-print-")
	if err != nil {
		return nil, err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(browser), chromedp.DisableGPU,
		chromedp.UserDataDir(dir),
		chromedp.Flag("disable-component-update", true))
	if os.Geteuid() == 0 { // it refuses to shut itself in for the superuser; it opens nothing but this program's pages
		opts = append(opts, chromedp.NoSandbox)
	}
	alloc, end := chromedp.NewExecAllocator(ctx, opts...)
	defer end()
	tab, closeTab := chromedp.NewContext(alloc)
	defer closeTab()
	defer func() { _ = chromedp.Cancel(tab) }()
	if err := chromedp.Do(tab, chromedp.Navigate(address), chromedp.WaitVisible(chromedp.CSS(selector))); err != nil {
		return nil, fmt.Errorf("the page cannot be opened: %w", err)
	}
	out, err := chromedp.Run(tab, chromedp.PrintToPDF(chromedp.PDFPrintBackground(),
		chromedp.PDFPaper(chromedp.PaperA4), chromedp.PDFMargins(0.5, 0.5, 0.6, 0.5), chromedp.PDFOutlineAndTagged(),
		chromedp.PDFHeaderTemplate("<span></span>"), chromedp.PDFFooterTemplate(footer)))
	if err != nil {
		return nil, fmt.Errorf("the page cannot be printed: %w", err)
	}
	return out, nil
}

const footer = `<div style="font-size:8px;width:100%;text-align:center"><span class="title"></span>, page <span class="pageNumber"></span> of <span class="totalPages"></span></div>`
