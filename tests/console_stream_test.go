package tests

import (
	"context"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	browserpage "github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/internal/pgtest"
)

// countStreams keeps the event streams that a page opens, and has the first one refused, as a proxy does while the service
// behind it starts again.
const countStreams = `window.streams = []
window.EventSource = class extends EventSource {
	constructor(path) { super(streams.length ? path : '/nowhere'); streams.push(this) }
}`

const openStreams = `streams.filter(s => s.readyState !== EventSource.CLOSED).length`

// TestStreamsOfPages: a stream that was refused is opened again, with nothing shown twice; a page that nobody sees has none,
// and shows what happened meanwhile once it is seen again.
func TestStreamsOfPages(t *testing.T) {
	p := openConsole(t)
	p.w.Fleet("staging", 2, "canary: 1")
	p.w.Submitted(map[string]string{"1-wait.sql": "/*---\nlock-timeout: none\n---*/\nSELECT pg_advisory_xact_lock(7)"})
	waits := pgtest.Connect(t, p.w.URLs["staging.g1"])
	_, err := waits.Exec(t.Context(), "SELECT pg_advisory_lock(7)")
	require.NoError(t, err)
	p.signIn()
	p.do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, browserpage.AddScriptToEvaluateOnNewDocument,
			browserpage.AddScriptToEvaluateOnNewDocumentParams{Source: countStreams})
		return err
	}))
	promoted, err := p.w.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	f := promoted.Fleet
	p.goTo("/fleet-deployments/1")
	p.sees("1 running")
	p.wait(openStreams + ` === 1 && streams.length === 2`)

	see := func(hidden string) {
		p.wait(`Object.defineProperty(document, 'hidden', { value: ` + hidden + `, configurable: true }) &&
			document.dispatchEvent(new Event('visibilitychange')) || true`)
	}
	see("true")
	p.wait(openStreams + ` === 0`)
	_, err = p.w.PauseFleet(t.Context(), f.ID)
	require.NoError(t, err)
	see("false")
	p.sees("no further target begins")
	p.wait(openStreams + ` === 1`)
	_, err = p.w.ResumeFleet(t.Context(), f.ID)
	require.NoError(t, err)
	require.NoError(t, waits.Close(t.Context()))
	p.sees("2 done")
	p.wait(openStreams + ` === 0`)

	p.goTo("/deployments/1")
	p.sees("1 of 1")
	p.wait(openStreams + ` === 0 && streams.length === 2`)
	var shown string
	p.measure(`JSON.stringify(document.body.innerText)`, &shown)
	assert.Contains(t, shown, "done")
}
