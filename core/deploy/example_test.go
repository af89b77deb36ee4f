package deploy_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"vorrang/core/deploy"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/step"
	"vorrang/target/sqlite"
)

// A plan is run on a session of an engine, here on an SQLite file.
func ExampleRunner() {
	folder, err := os.MkdirTemp("", "vorrang-example-")
	must(err)
	defer os.RemoveAll(folder)
	must(os.WriteFile(filepath.Join(folder, "harbour.db"), nil, 0o600))
	ctx, engine := context.Background(), sqlite.Engine{Folder: folder}
	session, err := engine.Open(ctx, "sqlite:harbour.db", "an example")
	must(err)
	defer session.Close()
	must(session.Lock(ctx))
	must(session.CreateLedger(ctx))

	text := []byte("CREATE TABLE berth (name TEXT);\nINSERT INTO berth VALUES ('North quay');\n")
	berth := plan.Step{
		Number:  "1",
		Slug:    "create-berth",
		Options: step.DefaultOptions(),
		Forward: plan.Text{Name: "1-create-berth.sql", Checksum: step.Sum(text)},
	}
	runner := deploy.Runner{
		Target: session, Dialect: engine.Dialect(), Deployment: "1", Actor: "pilot", Now: time.Now,
		Texts: func(context.Context, step.Checksum) ([]byte, error) { return text, nil },
		Pause: func(context.Context, time.Duration) {},
		Emit: func(e deploy.Event) {
			switch e.Kind {
			case deploy.StepDone:
				fmt.Println("a step is done")
			case deploy.Ended:
				fmt.Println("the deployment is", e.Outcome)
			}
		},
	}
	result := runner.Run(
		ctx, ledger.NewHead(),
		plan.Plan{Direction: ledger.Forward, Actions: []plan.Action{{Direction: ledger.Forward, Step: berth}}},
	)
	fmt.Println("the ledger ends at entry", result.Head.Seq)
	// Output:
	// a step is done
	// the deployment is done
	// the ledger ends at entry 1
}

func must(err error) {
	if err != nil {
		panic(err)
	}
}
