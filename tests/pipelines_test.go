package tests

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"

	"vorrang/client"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
)

// example is the text of a worked example of docs/pipelines.md.
func example(t *testing.T, name string) string {
	text, err := os.ReadFile(filepath.Join(pgtest.Root(), "docs", "pipelines", name))
	require.NoError(t, err)
	return string(text)
}

// command runs a program as a machine with a token, in a repository's folder.
func command(t *testing.T, server, token, folder string, args ...string) *exec.Cmd {
	program := args[0]
	if program == "vorrang" {
		program = filepath.Join(built(t), program)
	}
	c := exec.CommandContext(t.Context(), program, args[1:]...)
	c.Dir = folder
	c.Env = append(
		os.Environ(),
		"PATH="+built(t)+":"+os.Getenv("PATH"),
		"VORRANG_SERVER="+server,
		"VORRANG_TOKEN="+token,
		"VORRANG_LANE=harbour",
	)
	return c
}

func TestTheCIJobOfTheDocs(t *testing.T) {
	w := servicetest.Start(t)
	ctx := t.Context()
	w.Gates(map[string]string{"production": "approvals: 1"})
	made, err := w.MakeToken(ctx, "ci", []string{"author@harbour", "releaser@harbour"}, time.Hour)
	require.NoError(t, err)
	folder := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(folder, "steps"), 0o755))
	require.NoError(
		t,
		os.WriteFile(filepath.Join(folder, "steps", "1-a.sql"), []byte("CREATE TABLE a (id int)"), 0o644),
	)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "steps", "1-a.back.sql"), []byte("DROP TABLE a"), 0o644))
	job := filepath.Join(pgtest.Root(), "docs", "pipelines", "ci-job.sh")

	output, err := command(t, w.Server, made.Text, folder, "sh", job).CombinedOutput()
	require.NoError(t, err, "%s", output)
	assert.Contains(t, string(output), "nothing was changed; a submission of these")
	written, err := os.ReadFile(filepath.Join(folder, "steps.xml"))
	require.NoError(t, err)
	assert.Contains(t, string(written), `failures="0"`)
	lane, err := w.Lane(ctx, "harbour")
	require.NoError(t, err)
	assert.Zero(t, lane.Steps, "a push changes nothing")

	onMain := command(t, w.Server, made.Text, folder, "sh", job)
	onMain.Env = append(onMain.Env, "MAIN=yes")
	output, err = onMain.CombinedOutput()
	require.NoError(t, err, "%s", output)
	preview, err := os.ReadFile(filepath.Join(folder, "preview.sql"))
	require.NoError(t, err)
	assert.Contains(t, string(preview), "CREATE TABLE a")

	for range 2 { // a job may run again
		release := command(t, w.Server, made.Text, folder, "sh", job)
		release.Env = append(release.Env, "RELEASE=2026.11")
		output, err = release.CombinedOutput()
		require.NoError(t, err, "%s", output)
		assert.Contains(t, string(output), "production waits; gate.xml says for what")
	}
	status, err := w.Status(ctx, "harbour", "staging", "none")
	require.NoError(t, err)
	assert.Equal(t, "1", string(status.At))
	gate, err := os.ReadFile(filepath.Join(folder, "gate.xml"))
	require.NoError(t, err)
	assert.Contains(t, string(gate), `<failure message="1 approval of release 2026.11 is asked, and 0 are given">`)

	require.NoError(
		t,
		os.WriteFile(filepath.Join(folder, "steps", "2-b.sql"), []byte("CREATE TALBE b (id int)"), 0o644),
	)
	output, err = command(t, w.Server, made.Text, folder, "sh", job).CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(output), "2-b.sql:1:8")
}

func TestAnApplicationWaitsForItsRelease(t *testing.T) {
	w := servicetest.Start(t)
	ctx := t.Context()
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE a (id int)"})
	_, err := w.Cut(ctx, "harbour", client.Cutting{Name: "2026.11"})
	require.NoError(t, err)
	reader, err := w.MakeToken(ctx, "berth-planner", []string{"reader@harbour/production"}, time.Hour)
	require.NoError(t, err)

	var manifest struct {
		Spec struct {
			Template struct {
				Spec struct {
					InitContainers []struct{ Command []string } `yaml:"initContainers"`
				}
			}
		}
	}
	require.NoError(t, yaml.Unmarshal([]byte(example(t, "init-container.yaml")), &manifest))
	fromManifest := manifest.Spec.Template.Spec.InitContainers[0].Command
	_, unit, found := strings.Cut(example(t, "berth-planner.service"), "ExecStartPre=/usr/local/bin/")
	require.True(t, found)
	fromUnit := strings.Fields(strings.SplitN(unit, "\n", 2)[0])

	late := append(append([]string{}, fromUnit[:len(fromUnit)-1]...), "1s")
	output, err := command(t, w.Server, reader.Text, t.TempDir(), late...).CombinedOutput()
	var exit *exec.ExitError
	require.ErrorAs(t, err, &exit)
	assert.Equal(t, 3, exit.ExitCode())
	assert.Contains(
		t, string(output),
		"harbour/production is not there yet: 1 step of release 2026.11 is missing on production",
	)

	for _, args := range [][]string{fromManifest, fromUnit} {
		waiting := command(t, w.Server, reader.Text, t.TempDir(), args...)
		require.NoError(t, waiting.Start())
		promoted, err := w.Promote(ctx, "harbour", "production", client.Promotion{Release: "2026.11"})
		require.NoError(t, err)
		if !promoted.Nothing {
			w.Ended(promoted)
		}
		assert.NoError(t, waiting.Wait(), "%v", args)
	}
	stranger, err := w.MakeToken(ctx, "stranger", []string{"reader@harbour/staging"}, time.Hour)
	require.NoError(t, err)
	output, err = command(t, w.Server, stranger.Text, t.TempDir(), fromUnit...).CombinedOutput()
	require.ErrorAs(t, err, &exit)
	assert.Equal(t, 1, exit.ExitCode(), "what is refused does not come with time: %s", output)

	if verify, err := exec.LookPath("systemd-analyze"); err == nil {
		file := filepath.Join(t.TempDir(), "berth-planner.service")
		nothing, err := exec.LookPath("true")
		require.NoError(t, err)
		text := strings.NewReplacer("/usr/local/bin/berth-planner", nothing, "/usr/local/bin/vorrang", nothing).
			Replace(example(t, "berth-planner.service"))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
		defer cancel()
		output, err := exec.CommandContext(ctx, verify, "verify", file).CombinedOutput()
		assert.NoError(t, err, "%s", output)
	}
}
