package tests

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/internal/pgtest"
)

// pages are those of the console; %d is a deployment.
var pages = []string{
	"/", "/deployments", "/deployments/%d",
	"/lanes/harbour/development",
	"/lanes/harbour/staging", "/lanes/harbour/staging.g1", "/fleet-deployments/1", // a fleet
	"/lanes/harbour/production",
	"/releases/harbour", "/people", "/audit", "/hooks", "/account", "/nowhere",
}

// troubled is a console with something of everything to show.
func troubled(t *testing.T) (*page, int64) {
	p := openConsole(t)
	p.w.Submitted(map[string]string{
		"1-create-vessel.sql": "CREATE TABLE vessel (id int PRIMARY KEY)", "1-create-vessel.back.sql": "DROP TABLE vessel",
		"2-a-step-with-a-rather-long-name-that-says-what-it-does.sql": "CREATE TABLE " +
			"berth_with_a_rather_long_name_as_well (id int)",
		"3-fails.sql": "INSERT INTO vessel SELECT 1 / 0",
	})
	pgtest.Exec(t, p.w.URLs["production"], "CREATE TABLE public.vessel (id int)")
	ended := p.w.Promoted("development")
	require.Equal(t, deploy.Failed, ended.Outcome)
	p.w.Fleet("staging", 4, "canary: 1, size: 2, tolerate: 1")
	promoted, err := p.w.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	require.Equal(t, deploy.Failed, p.w.FleetEnded(promoted).Outcome)
	_, err = p.w.SetAside(t.Context(), "harbour", "staging.g4", "its mast is being repaired, for as long as the ice lasts")
	require.NoError(t, err)
	p.w.Submitted(map[string]string{"1-create-vessel.sql": "CREATE TABLE vessel (id bigint PRIMARY KEY)"})
	_, err = p.w.Cut(t.Context(), "harbour", client.Cutting{Name: "2026.11"})
	require.NoError(t, err)
	p.signIn()
	return p, ended.ID
}

// TestNoPageIsWiderThanItsScreen: at 360 pixels, as on a phone.
func TestNoPageIsWiderThanItsScreen(t *testing.T) {
	p, deployment := troubled(t)
	p.do(chromedp.EmulateViewport(360, 740))
	for _, path := range pages {
		path = at(path, deployment)
		p.show(path)
		var wide struct {
			By   float64 `json:"by"`
			What string  `json:"what"`
			Menu float64 `json:"menu"`

			Broken []string `json:"broken"` // words of tables that stand on two lines
		}
		p.measure(
			`(() => { const room = document.documentElement.clientWidth; const by = document.documentElement.scrollWidth - room;
			const scrolls = (e) => { for (; e; e = e.parentElement) if (['auto', 'scroll', 'hidden'].includes(getComputedStyle(e).overflowX)) return true; return false };
			const what = [...document.querySelectorAll('body *')].filter(e => e.getBoundingClientRect().right > room + 1 && !scrolls(e.parentElement)).map(e => e.tagName + '.' + e.className).slice(0, 3).join(' ');
			const broken = [];
			for (const cell of document.querySelectorAll('th, td')) {
				const texts = document.createTreeWalker(cell, NodeFilter.SHOW_TEXT);
				for (let n; (n = texts.nextNode());) if (!n.parentElement.closest('code, pre')) for (const word of n.data.matchAll(/[A-Za-z]{2,12}/g)) {
					const range = document.createRange();
					range.setStart(n, word.index);
					range.setEnd(n, word.index + word[0].length);
					if (new Set([...range.getClientRects()].map((r) => Math.round(r.top))).size > 1) broken.push(word[0]);
				}
			}
			return JSON.stringify({ by, what, broken, menu: document.querySelector('header').getBoundingClientRect().height }) })()`,
			&wide,
		)
		assert.LessOrEqual(t, wide.By, 0.0, "%s is %.0f pixels too wide: %s", path, wide.By, wide.What)
		assert.LessOrEqual(t, wide.Menu, 90.0, "%s: the menu takes %.0f pixels of 740", path, wide.Menu)
		assert.Empty(t, wide.Broken, path)
	}
}

// TestEveryPageIsAccessible asks axe-core, in both themes.
func TestEveryPageIsAccessible(t *testing.T) {
	axe, err := os.ReadFile(filepath.Join(pgtest.Root(), "console", "node_modules", "axe-core", "axe.min.js"))
	require.NoError(t, err)
	p, deployment := troubled(t)
	for _, theme := range []string{"light", "dark"} {
		p.measure(
			fmt.Sprintf(`(() => { localStorage.setItem('vorrang-theme', %q); return '{}' })()`, theme),
			&struct{}{},
		)
		for _, path := range pages {
			path = at(path, deployment)
			p.show(path)
			p.do(chromedp.Evaluate[chromedp.Void](string(axe) + "; void 0"))
			p.do(
				chromedp.Evaluate[chromedp.Void](
					`window.found = undefined; axe.run({ runOnly: ['wcag2a', 'wcag2aa', 'wcag21aa'] }).then(r => window.found = r.violations); void 0`,
				),
			)
			var violations []struct {
				ID    string `json:"id"`
				Help  string `json:"help"`
				Nodes []struct {
					HTML    string `json:"html"`
					Summary string `json:"failureSummary"`
				} `json:"nodes"`
			}
			p.wait(`window.found !== undefined`)
			p.measure(`JSON.stringify(window.found)`, &violations)
			for _, v := range violations {
				assert.Fail(
					t, "a violation",
					"%s, %s theme: %s: %s\n%s\n%s",
					path, theme, v.ID, v.Help, v.Nodes[0].HTML, v.Nodes[0].Summary,
				)
			}
		}
	}
}

func at(path string, deployment int64) string {
	if path == "/deployments/%d" {
		return fmt.Sprintf(path, deployment)
	}
	return path
}

// show opens a page and waits until it has what it shows.
func (p *page) show(path string) {
	p.goTo(path)
	p.wait(`!!document.querySelector('main')?.innerText.trim() && !document.querySelector('.p-skeleton')`)
}

func (p *page) wait(condition string) {
	p.t.Helper()
	require.NoError(p.t, p.until(condition))
}

// measure takes an answer that is JSON.
func (p *page) measure(script string, into any) {
	p.t.Helper()
	text, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](script))
	require.NoError(p.t, err)
	require.NoError(p.t, json.Unmarshal([]byte(text), into))
}
