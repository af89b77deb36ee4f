package release

import (
	"bytes"
	"crypto/dsa" //nolint:staticcheck // such keys exist
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"vorrang/core/step"
)

func signer(t testing.TB) ssh.Signer {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	s, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	return s
}

func signed(t testing.TB, sums string) string {
	text, err := Sign([]byte(sums), signer(t))
	require.NoError(t, err)
	return text
}

// TestSignaturesAreThoseOfOtherTools signs and verifies both ways with ssh-keygen.
func TestSignaturesAreThoseOfOtherTools(t *testing.T) {
	folder := t.TempDir()
	at := func(name string) string { return filepath.Join(folder, name) }
	run := func(stdin string, args ...string) string {
		command := exec.Command("ssh-keygen", args...)
		command.Stdin = strings.NewReader(stdin)
		output, err := command.CombinedOutput()
		require.NoError(t, err, "%s", output)
		return string(output)
	}
	const sums = "0123  steps/1-a.sql\n"
	for _, kind := range [][]string{{"ed25519"}, {"ecdsa"}, {"rsa", "-b", "2048"}} {
		key := at(kind[0])
		run("", append([]string{"-q", "-N", "", "-C", "p.holm", "-f", key, "-t"}, kind...)...)
		require.NoError(t, os.WriteFile(at("SHA256SUMS"), []byte(sums), 0o600))
		_ = os.Remove(at("SHA256SUMS.sig"))
		run("", "-Y", "sign", "-q", "-f", key, "-n", Namespace, at("SHA256SUMS"))
		theirs, err := os.ReadFile(at("SHA256SUMS.sig"))
		require.NoError(t, err)
		list, err := Verified([]byte(sums), theirs)
		require.NoError(t, err, kind[0])
		public, err := os.ReadFile(key + ".pub")
		require.NoError(t, err)
		known, err := ParseKey(string(public))
		require.NoError(t, err)
		assert.Equal(t, "p.holm", known.Holder)
		assert.Equal(t, known.Line, list[0].Line)
		assert.Contains(t, run("", "-l", "-f", key+".pub"), known.Fingerprint)

		private, err := os.ReadFile(key)
		require.NoError(t, err)
		own, err := ssh.ParsePrivateKey(private)
		require.NoError(t, err)
		ours, err := Sign([]byte(sums), own)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(at("ours.sig"), []byte(ours), 0o600))
		require.NoError(t, os.WriteFile(at("allowed"), []byte("p.holm "+string(public)), 0o600))
		assert.Contains(
			t,
			run(sums, "-Y", "verify", "-n", Namespace, "-f", at("allowed"), "-I", "p.holm", "-s", at("ours.sig")),
			"Good",
		)
	}
}

func TestWhatIsNoSignatureIsRefused(t *testing.T) {
	const sums = "0123  steps/1-a.sql\n"
	good, second := signed(t, sums), signed(t, sums)
	both, err := Verified([]byte(sums), []byte(good+"\n"+second))
	require.NoError(t, err)
	assert.Len(t, both, 2)
	for name, c := range map[string]struct{ text, message string }{
		"nothing":           {" \n", "it holds no signature"},
		"of another text":   {signed(t, "0124  steps/1-a.sql\n"), "is not one of this SHA256SUMS"},
		"one good, one not": {good + signed(t, "another"), "is not one of this SHA256SUMS"},
		"words before it":   {"trust me\n" + good, "it holds something else"},
		"words behind it":   {good + "trust me", "it holds something else"},
		"another kind":      {strings.ReplaceAll(good, "SSH SIGNATURE", "PGP SIGNATURE"), "it holds something else"},
		"a hole in it":      {good[:60] + good[64:], ""},
		"too many":          {strings.Repeat(good, mostSignatures+1), "up to 20"},
		"something long": {"-----BEGIN SSH SIGNATURE-----\n" + strings.Repeat("QUFB\n", longestSignature) +
			"-----END SSH SIGNATURE-----\n", "it holds something else"},
		"a line of a folder": {sums, "it holds something else"},
	} {
		_, err := Verified([]byte(sums), []byte(c.text))
		assert.ErrorContains(t, err, c.message, name)
	}
}

func TestWeakAndOddKeysAreRefused(t *testing.T) {
	small, err := rsa.GenerateKey(rand.Reader, 1024)
	require.NoError(t, err)
	short, err := ssh.NewPublicKey(&small.PublicKey)
	require.NoError(t, err)
	var old dsa.PrivateKey
	require.NoError(t, dsa.GenerateParameters(&old.Parameters, rand.Reader, dsa.L1024N160))
	require.NoError(t, dsa.GenerateKey(&old, rand.Reader))
	dss, err := ssh.NewPublicKey(&old.PublicKey)
	require.NoError(t, err)
	good := string(ssh.MarshalAuthorizedKey(signer(t).PublicKey()))
	for line, message := range map[string]string{
		string(ssh.MarshalAuthorizedKey(short)): "an RSA key needs 2048 bits or more, and this one has 1024",
		string(ssh.MarshalAuthorizedKey(dss)):   "keys of the kind ssh-dss are not taken",
		"ssh-ed25519 AAAA":                      "it is not a public SSH key",
		good + good:                             "it is not a public SSH key",
		`command="true" ` + good:                "a key has no options here",
	} {
		_, err := ParseKey(line)
		assert.ErrorContains(t, err, message, line)
	}
}

func TestABundleTakesItsSignaturesAlong(t *testing.T) {
	steps, texts := sealed(t, berths)
	text := func(digest step.Checksum) ([]byte, error) { return texts[digest], nil }
	pack := func(text func(step.Checksum) ([]byte, error), signatures ...Signature) []byte {
		var out bytes.Buffer
		require.NoError(
			t,
			Write(
				&out,
				Release{Lane: "harbour", Name: "2026.11", Digest: Digest(Sums(steps))},
				[]byte("lane: harbour\n"),
				steps, signatures, text,
			),
		)
		return out.Bytes()
	}
	good, err := Verified([]byte(Sums(steps)), []byte(signed(t, Sums(steps))+signed(t, Sums(steps))))
	require.NoError(t, err)
	_, found, err := Read(bytes.NewReader(pack(text, good...)), func(step.File) error { return nil })
	require.NoError(t, err)
	assert.Equal(t, good, found)
	_, _, err = Read(
		bytes.NewReader(pack(text, Signature{Text: signed(t, "something else")})),
		func(step.File) error { return nil },
	)
	assert.ErrorContains(t, err, "SHA256SUMS.sig: the signature of the key")
}
