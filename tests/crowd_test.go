package tests

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/core/ledger"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
	"vorrang/service/api"
)

var crowdFor = flag.Duration("crowd", 10*time.Second, "how long fifty clients act at once")

// folderOf has steps up to a number. Each leaves a row that cannot be there
// twice, and takes it back.
func folderOf(steps int) fstest.MapFS {
	folder := fstest.MapFS{
		"1-create-effect.sql":      {Data: []byte("CREATE TABLE effect (step int PRIMARY KEY)")},
		"1-create-effect.back.sql": {Data: []byte("DROP TABLE effect")},
	}
	for n := 2; n <= steps; n++ {
		folder[fmt.Sprintf("%d-leave-row.sql", n)] = &fstest.MapFile{
			Data: fmt.Appendf(nil, "INSERT INTO effect VALUES (%d)", n),
		}
		folder[fmt.Sprintf("%d-leave-row.back.sql", n)] = &fstest.MapFile{
			Data: fmt.Appendf(nil, "DELETE FROM effect WHERE step = %d", n),
		}
	}
	return folder
}

// crowd is many clients on one service.
type crowd struct {
	w *servicetest.World
	t *testing.T

	deployments, refusals atomic.Int64
}

// TestFiftyClientsAtOnce lets clients promote, roll back, submit and look
// without a plan. Every refusal must say why, every deployment tell all its
// events, and no step take effect twice.
func TestFiftyClientsAtOnce(t *testing.T) {
	c := &crowd{w: servicetest.Start(t), t: t}
	_, err := c.w.Submit(t.Context(), "harbour", folderOf(5))
	require.NoError(t, err)
	deadline, cancel := context.WithTimeout(t.Context(), *crowdFor)
	defer cancel()
	var all sync.WaitGroup
	for n := range 50 {
		all.Go(func() {
			random := rand.New(rand.NewPCG(uint64(n), 1))
			for deadline.Err() == nil {
				c.act(random)
			}
		})
	}
	all.Wait()
	t.Logf("%d deployments, %d refusals", c.deployments.Load(), c.refusals.Load())
	assert.Positive(t, c.deployments.Load())
	assert.Positive(t, c.refusals.Load())
	c.nothingLost()
	for _, environment := range []string{"development", "staging", "production"} {
		c.sameAsLedger(environment)
	}
}

func (c *crowd) act(random *rand.Rand) {
	ctx := c.t.Context()
	environment := []string{"development", "staging", "production"}[random.IntN(3)]
	var err error
	switch n := random.IntN(100); {
	case n < 45:
		err = c.follow(c.w.Promote(ctx, "harbour", environment, client.Promotion{Whole: n%2 == 0}))
	case n < 75:
		err = c.follow(c.w.Rollback(ctx, "harbour", environment, client.Way{Last: 1 + random.IntN(3)}, environment))
	case n < 85:
		_, err = c.w.Submit(ctx, "harbour", folderOf(5+random.IntN(10)))
	case n < 90:
		err = c.follow(c.w.Rebuild(ctx, "harbour", "development", "development"))
	case n < 95:
		_, err = c.w.Verify(ctx, "harbour", "")
	default:
		_, err = c.w.Status(ctx, "harbour", environment, "all")
	}
	if err == nil {
		return
	}
	c.refusals.Add(1)
	var refused *client.Error
	if !assert.ErrorAs(c.t, err, &refused) {
		return
	}
	assert.Contains(c.t, []string{"held", "refused"}, refused.Kind(), "%v", err)
	assert.NotEmpty(c.t, refused.Detail)
}

// follow hears a deployment to its end.
func (c *crowd) follow(promoted *api.Promoted, err error) error {
	if err != nil || promoted.Nothing {
		return err
	}
	c.deployments.Add(1)
	heard := int64(0)
	var last deploy.Event
	err = c.w.Follow(c.t.Context(), promoted.Deployment.ID, 0, func(e deploy.Event) error {
		if heard++; e.Seq != heard {
			return fmt.Errorf("event %d came after event %d", e.Seq, heard-1)
		}
		last = e
		return nil
	})
	if err == nil && last.Outcome == deploy.Cancelled && strings.Contains(last.Message, "before the first statement") {
		c.refusals.Add(1) // somebody submitted another folder meanwhile
		return nil
	}
	if err == nil && last.Outcome != deploy.Done {
		err = fmt.Errorf("deployment %d ended as %s", promoted.Deployment.ID, last.Outcome)
	}
	var refused *client.Error
	if err != nil && !errors.As(err, &refused) {
		assert.NoError(c.t, err)
	}
	return nil
}

// nothingLost reads every deployment's events once more, as they were kept.
func (c *crowd) nothingLost() {
	list, err := c.w.Deployments(c.t.Context(), client.DeploymentQuery{Limit: 500})
	require.NoError(c.t, err)
	for _, d := range list.Deployments {
		require.NotNil(c.t, d.EndedAt, "deployment %d has ended", d.ID)
		heard := int64(0)
		require.NoError(c.t, c.w.Follow(c.t.Context(), d.ID, 0, func(e deploy.Event) error {
			heard++
			assert.Equal(c.t, heard, e.Seq)
			return nil
		}))
	}
}

// sameAsLedger holds the rows that steps left against what the ledger says.
func (c *crowd) sameAsLedger(environment string) {
	history, err := c.w.Ledger(c.t.Context(), "harbour", environment, 0)
	require.NoError(c.t, err)
	assert.Empty(c.t, history.Chain)
	present := map[string]bool{}
	for i := len(history.Entries) - 1; i >= 0; i-- {
		e := history.Entries[i]
		switch e.Action {
		case ledger.Applied:
			assert.False(c.t, present[string(e.Step)], "step %s was applied twice on %s", e.Step, environment)
			present[string(e.Step)] = true
		case ledger.RolledBack:
			delete(present, string(e.Step))
		default:
			assert.Fail(c.t, "an entry of another kind", "%s", e.Action)
		}
	}
	rows := "0"
	if present["1"] {
		rows = pgtest.Query(c.t, c.w.URLs[environment], "SELECT count(*) FROM effect")
		delete(present, "1")
	}
	assert.Equal(c.t, fmt.Sprint(len(present)), rows, environment)
}
