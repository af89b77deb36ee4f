// Package programtest builds programs for tests. To import it has vorrang-layout built when a
// test first draws.
package programtest

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"

	"vorrang/internal/pgtest"
	"vorrang/internal/subprocess"
)

// Build builds programs of the project, such as ./cmd/..., into a folder.
func Build(folder, programs string) error {
	command := exec.Command("go", "build", "-o", folder+"/", programs)
	command.Dir = pgtest.Root()
	if output, err := command.CombinedOutput(); err != nil {
		return fmt.Errorf("%w\n%s", err, output)
	}
	return nil
}

func init() {
	build := sync.OnceValues(func() (folder string, err error) {
		work := filepath.Join(pgtest.Root(), ".work")
		if err := os.MkdirAll(work, 0o755); err != nil {
			return "", err
		}
		if folder, err = os.MkdirTemp(work, "programs-"); err != nil {
			return "", err
		}
		pgtest.AtEnd(func() { _ = os.RemoveAll(folder) })
		return folder, Build(folder, "./cmd/vorrang-layout")
	})
	subprocess.Find = func(program string) (string, error) {
		folder, err := build()
		return filepath.Join(folder, program), err
	}
}
