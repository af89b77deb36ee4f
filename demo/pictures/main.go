// Pictures takes pictures of the console's pages, from the demo's data:
//
//	go run ./demo/pictures FOLDER NAME=PATH[,dark][,narrow][,click=SELECTOR][,wait=SELECTOR]...
//
// VORRANG_SERVER and VORRANG_TOKEN say where the service is.
package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"vorrang/internal/browser"
)

func main() {
	if len(os.Args) < 3 {
		fmt.Fprintln(os.Stderr, "usage: pictures FOLDER NAME=PATH[,dark][,narrow][,click=SELECTOR][,wait=SELECTOR]...")
		os.Exit(2)
	}
	if err := run(os.Args[1], os.Args[2:]); err != nil {
		fmt.Fprintln(os.Stderr, "pictures:", err)
		os.Exit(1)
	}
}

func run(folder string, pictures []string) error {
	ctx, cancel := browser.Open(context.Background())
	defer cancel()
	ctx, stop := context.WithTimeout(ctx, 2*time.Minute)
	defer stop()
	server := os.Getenv("VORRANG_SERVER")
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800),
		browser.SignIn(server, "demo", os.Getenv("VORRANG_TOKEN"))); err != nil {
		return fmt.Errorf("sign in: %w", err)
	}
	for _, picture := range pictures {
		name, rest, _ := strings.Cut(picture, "=")
		if err := take(ctx, server, filepath.Join(folder, name+".png"), strings.Split(rest, ",")); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	return nil
}

func take(ctx context.Context, server, file string, parts []string) error {
	theme, width := "light", int64(1280)
	var clicks []chromedp.Action[chromedp.Void]
	for _, part := range parts[1:] {
		if part == "narrow" { // as on a phone
			width = 360
		} else if part == "dark" {
			theme = "dark"
		} else if selector, found := strings.CutPrefix(part, "click="); found {
			clicks = append(clicks, chromedp.Click(chromedp.CSS(selector), chromedp.NodeVisible), settle)
		} else if selector, found := strings.CutPrefix(part, "wait="); found {
			clicks = append(clicks, chromedp.WaitVisible(chromedp.CSS(selector)), settle)
		}
	}
	remember := fmt.Sprintf("localStorage.setItem('vorrang-theme', %q), true", theme)
	if _, err := chromedp.Run(ctx, chromedp.Evaluate[bool](remember)); err != nil {
		return err
	}
	steps := append(
		[]chromedp.Action[chromedp.Void]{
			chromedp.EmulateViewport(width, 800),
			chromedp.Navigate(server + parts[0]),
			chromedp.WaitVisible(chromedp.CSS("main")),
			settle,
		},
		clicks...)
	if err := chromedp.Do(ctx, steps...); err != nil {
		return err
	}
	image, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	return os.WriteFile(file, image, 0o644)
}

// settle lets data arrive and animations end before a picture is taken.
var settle = chromedp.Sleep(900 * time.Millisecond)
