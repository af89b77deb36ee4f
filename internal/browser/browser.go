// Package browser starts headless Chromium for the console's tests and
// pictures: a fresh profile, and no talk with anybody but the pages it is sent to.
package browser

import (
	"context"
	"os"

	"github.com/chromedp/chromedp"
)

// Open starts Chromium with a window of 1280 by 800 pixels. Cancel ends it.
func Open(ctx context.Context) (context.Context, context.CancelFunc) {
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-quic", true),
		chromedp.Flag("disable-sync", true),
		chromedp.Flag("force-prefers-reduced-motion", true), // what moves is drawn without end
		chromedp.Flag("no-sandbox", os.Geteuid() == 0),      // Chromium refuses to run as root otherwise
	)
	if path := os.Getenv("CHROMIUM"); path != "" {
		options = append(options, chromedp.ExecPath(path))
	}
	allocated, freeAllocator := chromedp.NewExecAllocator(ctx, options...)
	tab, closeTab := chromedp.NewContext(allocated)
	return tab, func() {
		closeTab()
		freeAllocator()
	}
}

// SignIn opens the console at a server's address and signs in with the administrator's token.
func SignIn(server, name, token string) chromedp.Action[chromedp.Void] {
	const nameField, tokenField = chromedp.CSS(`input[name="name"]`), chromedp.CSS(`input[type="password"]`)
	return chromedp.Steps(
		chromedp.Navigate(server+"/?token"),
		chromedp.WaitVisible(nameField), chromedp.SendKeys(nameField, name), chromedp.SendKeys(tokenField, token),
		chromedp.Click(chromedp.CSS(`button[type="submit"]`)),
		chromedp.WaitVisible(chromedp.CSS(`header nav`)),
	)
}
