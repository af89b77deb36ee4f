package main

import (
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAFlagThatWouldNotCountIsRefused: nothing is done, above all nothing else than what was meant.
func TestAFlagThatWouldNotCountIsRefused(t *testing.T) {
	for command, message := range map[string]string{
		"submit -bundle dues.tar.gz -dry-run":                "-dry-run does not count with -bundle",
		"submit -bundle dues.tar.gz -gone 3":                 "-gone does not count with -bundle",
		"preview -to staging -last 2":                        "-last does not count with -to",
		"preview -env staging -through 3":                    "-through counts only with -to",
		"preview -to staging -folder dba":                    "-folder counts only with -standalone",
		"rehearse -to staging -search failed":                "-search counts only with -list",
		"rehearse -to staging -id 3 -rows 100":               "-rows does not count with -id",
		"rehearse -to staging -list -cancel 3":               "does not count with -",
		"tokens -own -revoke 3 -search laptop":               "-search does not count with -revoke",
		"token -revoke 3 -grant reader":                      "-grant does not count with -revoke",
		"scheduled -env staging -drop 3 -search held":        "-search does not count with -drop",
		"hook chat -remove -url env:CHAT":                    "-url does not count with -remove",
		"approve -env staging -release R -withdraw -note ok": "-note does not count with -withdraw",
		"settle -env staging -step 3 -reason undone":         "-reason counts only with -as",
		"settle -env staging -step 3 -drop-invalid":          "-drop-invalid counts only with -as",
		"status -all":                          "-all counts only with -env",
		"ledger -env staging -effects -step 3": "-step does not count with -effects",
		"ledger -env staging -setup -limit 3":  "-limit does not count with -setup",
		"audit -lines -limit 3":                "-limit does not count with -lines",
		"releases 2026.11 -search dues":        "-search, -before and -limit are about the list",
		"promote -to staging -env production":  "say one of -to and -env",
		"person m.kai -enable -disable":        "say one of -disable and -enable",
	} {
		code, out, errs := say(t, append(strings.Fields(command), "-server", "http://127.0.0.1:1", "-lane", "harbour")...)
		if !strings.Contains(command, "-lane") && strings.Contains(errs, "flag provided but not defined: -lane") {
			code, out, errs = say(t, append(strings.Fields(command), "-server", "http://127.0.0.1:1")...)
		}
		assert.Equal(t, exitUsage, code, command)
		assert.Contains(t, errs, message, command)
		assert.Empty(t, out, command)
	}
	for _, fine := range []string{"rehearse -to staging -list -search x -before 3", "preview -to staging -standalone -through 3",
		"rehearse -to staging -list=false -rows 3", "audit -lines -actor demo -lane harbour -env staging"} {
		code, _, errs := say(t, append(strings.Fields(fine), "-server", "http://127.0.0.1:1")...)
		assert.Equal(t, exitError, code, "%s: nobody answers there: %s", fine, errs)
	}
}

// TestCommandsInTheDocsAreReal: every command line in the documents, the scripts and the console is one that
// the client takes.
func TestCommandsInTheDocsAreReal(t *testing.T) {
	var files []string
	for _, pattern := range []string{"*.md", "docs/*.md", "docs/decisions/*.md", "docs/pipelines/*", "demo/*.sh", "demo/*/*.md",
		"console/src/*/*.vue", "console/src/*.ts", "cmd/vorrang/*.go", "service/*.go"} {
		found, err := filepath.Glob("../../" + pattern)
		require.NoError(t, err)
		files = append(files, found...)
	}
	line := regexp.MustCompile("vorrang ([a-z-]+)((?: [^ \n`'\"|<>;&#)(…,:]+| \"[^\"\n]*\")*)")
	tried := 0
	for _, file := range files {
		if strings.HasSuffix(file, "_test.go") || strings.HasSuffix(file, "CHANGELOG.md") {
			continue
		}
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, found := range line.FindAllStringSubmatch(strings.ReplaceAll(string(text), `\n`, "\n"), -1) {
			c, _, known := find([]string{found[1]})
			if !known || !strings.Contains(found[2], " -") {
				continue
			}
			e := newEnv(c, io.Discard, io.Discard)
			c.setUp(e)
			var args []string
			for _, part := range regexp.MustCompile(`"[^"]*"|[^ ]+`).FindAllString(found[2], -1) {
				args = append(args, strings.TrimRight(part, ".\\"))
				if strings.HasSuffix(part, ".") { // of a sentence
					break
				}
			}
			_, err := parseMixed(e.flags, args)
			if err == nil {
				err = e.astray()
			}
			if err != nil && (strings.Contains(err.Error(), "invalid value") || strings.Contains(err.Error(), "needs an argument")) {
				continue // N for a number, or the end of a line
			}
			assert.NoError(t, err, "%s: %s", file, found[0])
			tried++
		}
	}
	assert.Greater(t, tried, 150)
}
