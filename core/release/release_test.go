package release

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/step"
)

func sealed(t *testing.T, files map[string]string) (steps []Sealed, texts map[step.Checksum][]byte) {
	folder, texts := fstest.MapFS{}, map[step.Checksum][]byte{}
	for name, text := range files {
		folder[name] = &fstest.MapFile{Data: []byte(text)}
		digest := sha256.Sum256([]byte(text))
		texts[step.Checksum(hex.EncodeToString(digest[:]))] = []byte(text)
	}
	read, err := step.ReadDir(folder)
	require.NoError(t, err)
	for _, s := range read {
		steps = append(steps, Of(s))
	}
	return steps, texts
}

var berths = map[string]string{
	"0001-create-berth.sql":      "CREATE TABLE berth ();\r\n",
	"0001-create-berth.back.sql": "DROP TABLE berth;\n",
	"0002-index.sql":             "/*---\nphase: expand\n---*/\nSELECT 1;\n",
	"0002-index.check.sql":       "SELECT true;\n",
}

func bundled(t *testing.T, files map[string]string) (Release, []byte) {
	steps, texts := sealed(t, files)
	r := Release{
		Lane:    "harbour",
		Name:    "2026.11",
		Digest:  Digest(Sums(steps)),
		Through: "2",
		Count:   2,
		CutBy:   "pilot",
		Notes:   "Two berths.",
		CutAt:   time.Date(2026, 11, 23, 9, 0, 0, 5, time.UTC),
		Commit:  "abc123",
	}
	var out bytes.Buffer
	require.NoError(
		t,
		Write(&out, r, []byte("lane: harbour\n"), steps, nil, func(digest step.Checksum) ([]byte, error) {
			if text, found := texts[digest]; found {
				return text, nil
			}
			return nil, errors.New("no such text")
		}),
	)
	return r, out.Bytes()
}

func TestABundleIsCheckedByOtherTools(t *testing.T) {
	r, packed := bundled(t, berths)
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "b.tar.gz"), packed, 0o600))
	output, err := exec.Command("bash", "-c", "cd "+folder+" && tar xzf b.tar.gz && sha256sum -c SHA256SUMS && "+
		"sha256sum < SHA256SUMS && cat RELEASE.md").
		CombinedOutput()
	require.NoError(t, err, "%s", output)
	assert.Contains(
		t, string(output),
		"steps/0001-create-berth.sql: OK\nsteps/0001-create-berth.back.sql: OK\nsteps/0002-index.sql: OK\n"+
			"steps/0002-index.check.sql: OK\n"+string(
			r.Digest,
		),
	)
	assert.Contains(
		t, string(output),
		"# harbour 2026.11\n\n2 steps, through 2. Cut by pilot at 2026-11-23 09:00:00 UTC.",
	)
	assert.Contains(
		t, string(output),
		"From commit `abc123`, a folder with changes that were not committed.\n\nTwo berths.\n",
	)
	_, again := bundled(t, berths)
	assert.Equal(t, packed, again, "the same release gives the same bytes")
}

func TestABundleComesBackUnchangedOrNotAtAll(t *testing.T) {
	r, packed := bundled(t, berths)
	var names []string
	back, _, err := Read(bytes.NewReader(packed), func(f step.File) error { names = append(names, f.Name); return nil })
	require.NoError(t, err)
	assert.Equal(t, r, back)
	assert.Len(t, names, 4)

	repack := func(script string) []byte {
		folder := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(folder, "b.tar.gz"), packed, 0o600))
		output, err := exec.Command("bash", "-c", "cd "+folder+" && mkdir x && tar xzf b.tar.gz -C x && cd x && "+script+
			" && tar czf ../c.tar.gz release.json SHA256SUMS lane.yaml RELEASE.md steps/*").
			CombinedOutput()
		require.NoError(t, err, "%s", output)
		text, err := os.ReadFile(filepath.Join(folder, "c.tar.gz"))
		require.NoError(t, err)
		return text
	}
	cases := map[string]struct {
		packed  []byte
		message string
	}{
		"one byte": {
			repack("sed -i 's/SELECT 1/SELECT 2/' steps/0002-index.sql"),
			"steps/0002-index.sql: is not what was sealed",
		},
		"a file less": {
			repack("rm steps/0002-index.check.sql"),
			"steps/0002-index.check.sql: is listed in SHA256SUMS, and is not in the bundle",
		},
		"a file more": {
			repack("echo 'SELECT 1;' > steps/0003-more.sql"),
			"steps/0003-more.sql: is in the bundle, and not listed",
		},
		"the list": {
			repack("rm steps/0002-index.check.sql; sed -i /check/d SHA256SUMS"),
			"SHA256SUMS: has the digest",
		},
		"another archive":   {repack("echo '{}' > release.json"), "release.json: this is not a bundle of a release"},
		"no archive at all": {[]byte("hello"), "it is not a .tar.gz"},
		"cut off":           {packed[:len(packed)/2], ""},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			_, _, err := Read(bytes.NewReader(c.packed), func(step.File) error { return nil })
			var problems step.Problems
			require.ErrorAs(t, err, &problems)
			assert.ErrorContains(t, err, c.message)
		})
	}
}

func TestReleasesAreComparedByWhatTheyRun(t *testing.T) {
	before, _ := sealed(t, map[string]string{"1-a.sql": "SELECT 1", "2-b.sql": "SELECT 2", "4-d.sql": "SELECT 4"})
	after, _ := sealed(
		t,
		map[string]string{
			"1-a.sql":      "SELECT 1",
			"1-a.back.sql": "SELECT 1",
			"2-b.sql":      "SELECT 'two'",
			"3-c.sql":      "/*---\nphase: expand\n---*/SELECT 3",
		},
	)
	var words []string
	for _, c := range Compare(before, after) {
		words = append(words, string(c.Number)+" "+c.What+string(c.Phase))
	}
	assert.Equal(t, "2 edited, 3 newexpand, 4 gone", strings.Join(words, ", "))
	assert.NoError(t, CheckName("2026.11-rc_1"))
	assert.ErrorContains(t, CheckName("../x"), `"../x" is not a valid release name`)
}

// FuzzRead: whatever a bundle holds, it is read or refused, and no file is given on
// whose name or checksum the bundle does not list.
func FuzzRead(f *testing.F) {
	var whole bytes.Buffer
	packed := gzip.NewWriter(&whole)
	archive := tar.NewWriter(packed)
	for name, text := range map[string]string{"release.json": `{"lane":"harbour","name":"1","digest":"x"}`,
		"SHA256SUMS": "x  steps/1-a.sql\n", "steps/1-a.sql": "SELECT 1"} {
		require.NoError(f, archive.WriteHeader(&tar.Header{Name: name, Size: int64(len(text)), Mode: 0o644}))
		_, err := archive.Write([]byte(text))
		require.NoError(f, err)
	}
	require.NoError(f, errors.Join(archive.Close(), packed.Close()))
	f.Add(whole.Bytes())
	f.Add([]byte("\x1f\x8b"))
	f.Fuzz(func(t *testing.T, bundle []byte) {
		_, _, _ = Read(bytes.NewReader(bundle), func(file step.File) error {
			_, err := step.ParseName(file.Name)
			assert.NoError(t, err)
			return nil
		})
		var unpacked bytes.Buffer // the same bytes as what would be packed
		writer := gzip.NewWriter(&unpacked)
		_, _ = writer.Write(bundle)
		_ = writer.Close()
		_, _, _ = Read(&unpacked, func(step.File) error { return nil })
	})
}
