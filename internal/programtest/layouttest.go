// Package layouttest builds vorrang-layout for tests that draw. It does so once, when a test
// first needs it: import it for that.
package layouttest

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"

	"vorrang/internal/pgtest"
	"vorrang/internal/subprocess"
)

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
		command := exec.Command("go", "build", "-o", folder+"/", "./cmd/vorrang-layout")
		command.Dir = pgtest.Root()
		if output, err := command.CombinedOutput(); err != nil {
			return "", fmt.Errorf("%w\n%s", err, output)
		}
		return folder, nil
	})
	subprocess.Find = func(program string) (string, error) {
		folder, err := build()
		return filepath.Join(folder, program), err
	}
}
