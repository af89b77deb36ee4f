package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// typed is what somebody gives on the standard input of the next command.
func typed(t *testing.T, text string) {
	reader, writer, err := os.Pipe()
	require.NoError(t, err)
	_, err = writer.WriteString(text)
	require.NoError(t, err)
	require.NoError(t, writer.Close())
	before := os.Stdin
	os.Stdin = reader
	t.Cleanup(func() { os.Stdin = before; _ = reader.Close() })
}

func TestLoginKeepsATokenThatOnlyItsOwnerCanRead(t *testing.T) {
	world(t, map[string]string{"1-a.sql": "SELECT 1"})
	home := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", home)
	file := filepath.Join(home, "vorrang", "tokens.json")
	const password = "ebb and flow and ebb\n"
	typed(t, password)
	code, out, errs := say(t, "person", "m.kai", "-password", "-grant", "releaser@harbour/staging,reader")
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, "m.kai may: releaser@harbour/staging, reader")
	_, out, _ = say(t, "people")
	assert.Contains(t, out, "m.kai")

	t.Setenv("VORRANG_TOKEN", "")
	code, _, errs = say(t, "whoami")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "sign in: vorrang login NAME")
	typed(t, "a wrong password\n")
	code, _, errs = say(t, "login", "m.kai")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "the name or the password is not right")
	assert.NoFileExists(t, file)
	typed(t, password)
	code, out, errs = say(t, "login", "m.kai")
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, "as m.kai; the token is kept in "+file)
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	assert.NotContains(t, out, "VORRANG_TOKEN")
	t.Setenv("VORRANG_TOKEN", "of another")
	typed(t, password)
	_, out, _ = say(t, "login", "m.kai")
	assert.Contains(t, out, "VORRANG_TOKEN is set and counts before it")
	t.Setenv("VORRANG_TOKEN", "")
	_, out, _ = say(t, "whoami")
	assert.Contains(t, out, "releaser@harbour/staging")
	code, _, errs = say(t, "promote", "-to", "production")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "m.kai may not do this on harbour/production: it takes releaser or administrator")
	code, out, _ = say(t, "promote", "-to", "staging", "-at", "2099-01-01")
	assert.Equal(t, 1, code, "at most 90 days ahead: %s", out)

	require.NoError(t, os.Chmod(file, 0o644))
	code, _, errs = say(t, "whoami")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "can be read by others (mode 644)")
	require.NoError(t, os.Chmod(file, 0o600))
	code, out, _ = say(t, "logout")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "logged out")
	code, _, errs = say(t, "logout")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "nobody is logged in")
}

func TestWhatAdministratorsLookAfter(t *testing.T) {
	world(t, map[string]string{"1-a.sql": "SELECT 1"})
	code, token, errs := say(t, "token", "nightly-backup", "-grant", "reporter@harbour/production", "-days", "2")
	require.Equal(t, 0, code, errs)
	assert.Regexp(t, `^vorrang_[\w-]{43}\n$`, token, "nothing else stands on the standard output")
	assert.Contains(t, errs, "token 1 of nightly-backup may: reporter@harbour/production; good until")
	_, out, _ := say(t, "tokens")
	assert.Contains(t, out, "nightly-backup")
	assert.NotContains(t, out, token)
	code, out, _ = say(t, "token", "-revoke", "1")
	assert.Equal(t, 0, code)
	assert.Equal(t, "token 1 is revoked\n", out)
	code, _, errs = say(t, "hook", "chat", "-url", "http://127.0.0.1:9", "-secret", "plain")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "no secret is kept here")
	_, out, _ = say(t, "hooks")
	assert.Contains(t, out, "no webhook is declared")
	code, out, errs = say(t, "compare", "-from", "staging", "-with", "production")
	assert.Equal(t, 0, code, errs)
	assert.Contains(t, out, "no difference: staging and production have the same schema")
	_, out, _ = say(t, "audit", "-operation", "makeToken")
	assert.Contains(t, out, "makeToken")
	_, out, _ = say(t, "audit", "-lines")
	assert.Contains(t, out, `"operation":"revokeToken"`)
	for _, bad := range [][]string{{"person"}, {"token"}, {"hook"}, {"waive"}, {"approve", "-env", "staging"}, {"login"},
		{"compare", "-from", "staging"}, {"await", "-env", "staging"}, {"audit", "-since", "soon"}} {
		code, _, _ := say(t, bad...)
		assert.Equal(t, 2, code, "%v", bad)
	}
}
