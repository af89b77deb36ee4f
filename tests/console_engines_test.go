package tests

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestEveryEngineInTheConsole tells the story of tell once more, in the browser: each
// engine's lane is promoted, fails on rows that are there, goes back, drifts and is
// drafted from its pages.
func TestEveryEngineInTheConsole(t *testing.T) {
	for _, name := range []string{"postgresql", "mariadb", "sqlite"} {
		t.Run(name, func(t *testing.T) { click(t, name) })
	}
}

func click(t *testing.T, name string) {
	p := openConsole(t)
	kind := servers(p.w.Folder)[name]
	urls := map[string]string{}
	lane := "lane: port\nengine: " + name + "\nenvironments:\n"
	for _, environment := range []string{"development", "staging"} {
		urls[environment] = kind.fresh(t)
		file := filepath.Join(t.TempDir(), environment)
		require.NoError(t, os.WriteFile(file, []byte(urls[environment]), 0o600))
		lane += fmt.Sprintf(
			"  - {name: %s, target: %q, gate: {release: not-asked, drift: refused}",
			environment,
			"file:"+file,
		)
		if environment == "development" {
			lane += fmt.Sprintf(", disposable: true, scratch: %q", "file:"+file)
		}
		lane += "}\n"
	}
	_, err := p.w.Declare(t.Context(), "lane.yaml", []byte(lane))
	require.NoError(t, err)
	steps := t.TempDir()
	for file, text := range tale {
		require.NoError(t, os.WriteFile(filepath.Join(steps, file), []byte(text), 0o600))
	}
	_, err = p.w.Submit(t.Context(), "port", os.DirFS(steps))
	require.NoError(t, err)

	p.signIn()
	p.goTo("/lanes/port/development")
	p.press("Promote")
	p.press("Apply 5 steps to development")
	p.sees("5 of 5 steps")
	p.goTo("/lanes/port/staging")
	p.press("Preview")
	p.press("Rehearse")
	p.sees("The rehearsal passed")
	p.sees("there is none")
	p.press("Promote")
	p.press("Apply 5 steps to staging")
	p.sees("5 of 5 steps")

	// back to before the rows, which then are others
	p.goTo("/lanes/port/staging")
	p.press("Ledger")
	p.sees("The chain of all")
	p.press("Gate")
	p.sees("The gate is clear")
	kind.exec(t, urls["staging"], "ALTER TABLE berth ADD COLUMN by_hand INTEGER")
	p.goTo("/lanes/port/staging")
	p.press("Schema")
	p.sees("1 object differs from what deployment 2 left")
	p.sees(kind.table + "berth.by_hand")
	p.sees("vorrang draft -lane port -env staging -drift keep")
	p.sees("by_hand added")
	p.press("Gate")
	p.sees("1 object differs")
	p.press("Schema")
	p.press("Accept")
	p.fill("words", "ticket 4711")
	p.press("It is right as it is")
	p.sees("No drift")

	// a step that the rows there do not meet
	kind.exec(t, urls["staging"], "INSERT INTO berth (id, name) VALUES (1, 'East quay')")
	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(steps, "6-one-east.sql"),
			[]byte(
				"INSERT INTO berth (id, name) VALUES (2, 'West quay');\nINSERT INTO berth (id, name) VALUES (3, 'East quay');",
			),
			0o600,
		),
	)
	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(steps, "6-one-east.back.sql"),
			[]byte("DELETE FROM berth WHERE id IN (2, 3);"),
			0o600,
		),
	)
	_, err = p.w.Submit(t.Context(), "port", os.DirFS(steps))
	require.NoError(t, err)
	p.goTo("/lanes/port/staging")
	p.press("Promote")
	p.press("Apply 1 step to staging")
	p.sees("6-one-east.sql")
	p.sees("East quay")
	p.goTo("/")
	p.sees("port")
	p.sees("needs you")
	p.goTo("/lanes/port/staging")
	p.sees("failed")

	kind.exec(t, urls["staging"], "DELETE FROM berth WHERE id = 1")
	p.press("Promote")
	p.press("Apply 1 step to staging")
	p.sees("1 of 1 step")
	p.goTo("/lanes/port/staging")
	p.press("Roll back")
	p.sees("DELETE FROM berth")
	p.fill("confirm", "staging")
	p.press("Roll 1 step back on staging")
	p.sees("rolled back")
	p.sees("done")
	ledger, err := p.w.Ledger(t.Context(), "port", "staging", 50)
	require.NoError(t, err)
	var did []string
	for _, e := range ledger.Entries {
		did = append(did, string(e.Action))
	}
	assert.Contains(t, strings.Join(did, " "), "rolled-back")
}
