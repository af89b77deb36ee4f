package tests

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"

	"vorrang/internal/pgtest"
)

// TestTheContainerFilesAreAboutThisProgram: what they copy is there, and the service takes the flags that
// they give it. No image is built: that needs a container engine and a base image.
func TestTheContainerFilesAreAboutThisProgram(t *testing.T) {
	folder := filepath.Join(pgtest.Root(), "packaging", "container")
	file, err := os.ReadFile(filepath.Join(folder, "Containerfile"))
	require.NoError(t, err)
	for _, copied := range regexp.MustCompile(`(?m)^COPY (.+) \S+$`).FindAllStringSubmatch(string(file), -1) {
		for _, name := range strings.Fields(copied[1]) {
			path := filepath.Join(pgtest.Root(), name)
			if program, is := strings.CutPrefix(name, "bin/"); is {
				path = filepath.Join(built(t), program)
			}
			_, err := os.Stat(path)
			assert.NoError(t, err, name)
		}
	}
	var compose struct {
		Services map[string]struct {
			Command []string
			Build   struct{ Context, Dockerfile string }
			Secrets []string
			Tmpfs   []string
		}
		Secrets map[string]struct{ File string }
	}
	text, err := os.ReadFile(filepath.Join(folder, "compose.yaml"))
	require.NoError(t, err)
	require.NoError(t, yaml.Unmarshal(text, &compose))
	service := compose.Services["vorrangd"]
	_, err = os.Stat(filepath.Join(folder, service.Build.Context, service.Build.Dockerfile))
	assert.NoError(t, err)
	require.Len(t, service.Tmpfs, 1, "all else is read only, and uploads are kept there while they arrive")
	assert.True(t, strings.HasPrefix(service.Tmpfs[0], "/tmp:"))
	for name, one := range compose.Services {
		for _, secret := range one.Secrets {
			assert.Contains(t, compose.Secrets, secret, name)
		}
	}
	entry := regexp.MustCompile(`(?m)^ENTRYPOINT \["/usr/bin/vorrangd", (.+)\]$`).FindStringSubmatch(string(file))
	require.NotNil(t, entry)
	flags := append(strings.Split(strings.ReplaceAll(entry[1], `"`, ""), ", "), service.Command...)
	started := exec.Command(filepath.Join(built(t), "vorrangd"), append(flags, "-check")...)
	started.Env = []string{"VORRANG_RECORDS_URL=postgres://nobody@127.0.0.1:1/none", "VORRANG_ADMIN_TOKEN=" + token}
	said, err := started.CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(said), "nobody listens at 127.0.0.1:1", "the flags were read, and the records looked for")

	check := regexp.MustCompile(`(?m)^HEALTHCHECK .* CMD \["/usr/bin/vorrangd", (.+)\]$`).FindStringSubmatch(string(file))
	require.NotNil(t, check)
	p := startProcess(t)
	asked := exec.Command(filepath.Join(built(t), "vorrangd"), strings.Trim(check[1], `"`), "-listen", strings.TrimPrefix(p.Server, "http://"))
	asked.Env = []string{}
	said, err = asked.CombinedOutput()
	assert.NoError(t, err, string(said))
}
