package main

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
)

// key makes an SSH key with ssh-keygen: the private key's file, and its public line.
func key(t *testing.T, holder, passphrase string) (file, public string) {
	file = filepath.Join(t.TempDir(), "id_ed25519")
	output, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", passphrase, "-C", holder, "-f", file).
		CombinedOutput()
	require.NoError(t, err, "%s", output)
	text, err := os.ReadFile(file + ".pub")
	require.NoError(t, err)
	return file, strings.TrimSpace(string(text))
}

func TestAReleaseIsSignedAndTheGateAsksForIt(t *testing.T) {
	w := world(t, map[string]string{"1-a.sql": "CREATE TABLE a (id int)"})
	file, public := key(t, "p.holm", "")
	other, _ := key(t, "e.ve", "")
	w.Gates(map[string]string{"production": "previous-environment: not-asked, signers: ['" + public + "']"})
	_, out, errs := say(t, "cut", "2026.11", "-dir", w.Steps)
	require.Empty(t, errs, out)
	gated := func() string {
		_, out, errs := say(t, "gate", "-to", "production", "-release", "2026.11")
		return out + errs
	}
	assert.Regexp(
		t,
		`hold  signature .*release 2026.11 is not signed\n +→ let one of them sign it, where its step folder is: p.holm: vorrang sign -lane harbour 2026.11 -key FILE`,
		gated(),
	)

	code, out, errs := say(t, "sign", "2026.11", "-key", other, "-dir", w.Steps)
	require.Equal(t, 0, code, out+errs)
	assert.Contains(t, gated(), "by keys that production does not name")
	code, _, errs = say(t, "promote", "-to", "production", "-release", "2026.11")
	assert.Equal(t, 3, code, errs)

	w.Write(map[string]string{"1-a.sql": "CREATE TABLE a (id int); -- edited"})
	code, _, errs = say(t, "sign", "2026.11", "-key", file, "-dir", w.Steps)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "1-a.sql has another text; check out what it was cut from")
	w.Write(map[string]string{"1-a.sql": "CREATE TABLE a (id int)"})
	code, out, errs = say(t, "sign", "2026.11", "-key", file, "-dir", w.Steps)
	require.Equal(t, 0, code, out+errs)
	assert.Regexp(t, `release 2026.11 of harbour is signed with the key SHA256:`, out)
	assert.Regexp(t, `pass  signature .*release 2026.11 is signed by p.holm, SHA256:`, gated())

	// the signatures go along, and other tools verify them
	code, out, errs = say(t, "export", "2026.11", "-o", "b.tar.gz")
	require.Equal(t, 0, code, out+errs)
	require.NoError(t, os.WriteFile("allowed", []byte("p.holm "+public+"\n"), 0o600))
	output, err := exec.Command("sh", "-c", "tar xzf b.tar.gz && csplit -s -z SHA256SUMS.sig '/BEGIN/' '{*}' && for s "+
		"in xx*; do ssh-keygen -Y verify -n vorrang-release -f allowed -I p.holm -s $s < SHA256SUMS; done; true").
		CombinedOutput()
	require.NoError(t, err)
	assert.Equal(t, 1, strings.Count(string(output), "Good \"vorrang-release\" signature for p.holm"), "%s", output)
	packed, err := os.ReadFile("b.tar.gz")
	require.NoError(t, err)
	elsewhere := servicetest.Start(t)
	_, err = elsewhere.SubmitBundle(t.Context(), "harbour", bytes.NewReader(packed))
	require.NoError(t, err)
	elsewhere.Gates(map[string]string{"production": "previous-environment: not-asked, signers: ['" + public + "']"})
	t.Setenv("VORRANG_SERVER", elsewhere.Server)
	code, out, errs = say(t, "promote", "-to", "production", "-release", "2026.11")
	assert.Equal(t, 0, code, out+errs)
	_, out, _ = say(t, "releases", "2026.11")
	assert.Len(t, regexp.MustCompile(`signed by SHA256:`).FindAllString(out, -1), 2)

	// a way back that came later is nobody's whom the environment knows, until one signs it too
	t.Setenv("VORRANG_SERVER", w.Server)
	code, out, errs = say(t, "promote", "-to", "production", "-release", "2026.11")
	require.Equal(t, 0, code, out+errs)
	w.Write(map[string]string{"1-a.back.sql": "DROP TABLE a"})
	code, out, errs = say(t, "submit", "-dir", w.Steps)
	require.Equal(t, 0, code, out+errs)
	code, out, errs = say(t, "cut", "2026.12", "-dir", w.Steps)
	require.Equal(t, 0, code, out+errs)
	back := []string{"rollback", "-env", "production", "-last", "1", "-confirm", "production"}
	code, out, errs = say(t, back...)
	assert.Equal(t, 3, code, out+errs)
	assert.Contains(
		t, out+errs,
		"production asks for signatures, and the way back of step 1 is in no release that is signed",
	)
	code, out, errs = say(t, "sign", "2026.12", "-key", other, "-dir", w.Steps)
	require.Equal(t, 0, code, out+errs)
	code, out, errs = say(t, back...)
	assert.Equal(t, 3, code, out+errs, "the key is not one that production knows")
	code, out, errs = say(t, "sign", "2026.12", "-key", file, "-dir", w.Steps)
	require.Equal(t, 0, code, out+errs)
	code, out, errs = say(t, back...)
	assert.Equal(t, 0, code, out+errs)

	// what is no signature in the records counts for nothing
	pgtest.Exec(
		t,
		w.Records,
		`UPDATE records.signature SET body = jsonb_set(body, '{signature}', to_jsonb(replace(body->>'signature', 'U1NIU0lH', 'U1NIU0lI')))`,
	)
	t.Setenv("VORRANG_SERVER", w.Server)
	assert.Contains(t, gated(), "release 2026.11 is not signed")
}

func TestASigningKeyIsReadOrSaidToBeNone(t *testing.T) {
	w := world(t, map[string]string{"1-a.sql": "CREATE TABLE a (id int)"})
	say(t, "cut", "2026.11", "-dir", w.Steps)
	locked, _ := key(t, "p.holm", "the tide is high")
	none := filepath.Join(t.TempDir(), "none")
	require.NoError(t, os.WriteFile(none, []byte("hello"), 0o600))
	sign := func(stdin, file string) string {
		input := filepath.Join(t.TempDir(), "stdin")
		require.NoError(t, os.WriteFile(input, []byte(stdin), 0o600))
		from, err := os.Open(input)
		require.NoError(t, err)
		defer from.Close()
		kept := os.Stdin
		os.Stdin = from
		defer func() { os.Stdin = kept }()
		_, out, errs := say(t, "sign", "2026.11", "-key", file, "-dir", w.Steps)
		return out + errs
	}
	assert.Contains(t, sign("the tide is high\n", locked), "is signed with the key SHA256:")
	assert.Contains(t, sign("the tide is low\n", locked), "that is not its passphrase")
	assert.Contains(t, sign("", none), "holds no SSH private key")
	t.Setenv("SSH_AUTH_SOCK", "")
	assert.Contains(t, sign("", locked+".pub"), "no SSH agent runs")
	code, _, errs := say(t, "sign", "2026.11")
	assert.Equal(t, 2, code, errs)

	agent, err := exec.Command("ssh-agent", "-s").Output()
	require.NoError(t, err)
	pid := regexp.MustCompile(`SSH_AGENT_PID=(\d+)`).FindSubmatch(agent)
	t.Cleanup(func() { _ = exec.Command("kill", string(pid[1])).Run() })
	t.Setenv("SSH_AUTH_SOCK", string(regexp.MustCompile(`SSH_AUTH_SOCK=([^;]+)`).FindSubmatch(agent)[1]))
	assert.Contains(t, sign("", locked+".pub"), "the SSH agent does not hold the key SHA256:")
	open, _ := key(t, "p.holm", "")
	output, err := exec.Command("ssh-add", "-q", open).CombinedOutput()
	require.NoError(t, err, "%s", output)
	assert.Contains(t, sign("", open+".pub"), "is signed with the key SHA256:")
}
