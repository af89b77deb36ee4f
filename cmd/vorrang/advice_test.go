package main

import (
	"net"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/ledger"
	"vorrang/core/remedy"
	"vorrang/internal/advice"
)

var parts = regexp.MustCompile(`"[^"]*"|\S+`)

// TestNoAdviceLeadsNowhere runs the command of every act: its flags are known, and what
// it needs is there. Nobody answers, and the command says so and nothing else.
func TestNoAdviceLeadsNowhere(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := listener.Addr().String()
	require.NoError(t, listener.Close())
	t.Setenv("VORRANG_SERVER", "http://"+address)
	t.Setenv("VORRANG_TOKEN", "a-token-of-nobody")
	t.Setenv("VORRANG_LANE", "")
	t.Chdir(t.TempDir())

	place := remedy.Place{Lane: "harbour", Environment: "staging"}
	release, last, new := place.Do(""), place.Do(""), place.Do("")
	release.Arguments.Release, last.Arguments.Last, new.Arguments.NewRelease = "2026.11", 1, true
	for _, act := range remedy.Moves {
		for _, a := range []remedy.Arguments{place.Step("", "20").Arguments, place.Settle("20", ledger.SettledUndone).Arguments, place.RollbackTo("10").Arguments,
			last.Arguments, release.Arguments, new.Arguments, {Lane: "harbour", Environment: "staging", Step: "20", Acknowledge: true}} {
			if act == remedy.Rollback && a.To == "" && a.Last == 0 || act == remedy.Settle && a.As == "" || act == remedy.Approve && a.Release == "" {
				continue // nobody advises that
			}
			needsStep := act == remedy.Attest || act == remedy.Amend || act == remedy.Settle || act == remedy.LookAtEvidence
			if needsStep && a.Step == "" {
				continue
			}
			command := advice.Command(act, a)
			args := parts.FindAllString(command, -1)
			require.Equal(t, "vorrang", args[0], act)
			for i := range args {
				args[i] = strings.NewReplacer(`"`, "", "…", "2026-11-03T07:00:00Z").Replace(args[i])
				if args[i] == "FILE" {
					args[i] = "/dev/null"
				}
				if args[i] == "N" {
					args[i] = "7"
				}
			}
			code, out, errs := say(t, args[1:]...)
			assert.NotEqual(t, exitUsage, code, "%s\n%s%s", command, out, errs)
			if act != remedy.Sign && act != remedy.Cut { // which read a folder first
				assert.Contains(t, errs, "refused", "%s\n%s%s", command, out, errs)
			}
		}
	}
	assert.Equal(t, "fix it; or ask: vorrang cut -lane harbour NAME, then vorrang promote -lane harbour -to staging -release 2026.11", advice.Text([]remedy.Remedy{
		remedy.ByHand("fix it"), place.Do(remedy.Cut).And(place.Release(remedy.Promote, "2026.11")).For("or ask")}))
}
