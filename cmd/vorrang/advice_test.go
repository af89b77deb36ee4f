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
		for _, a := range []remedy.Arguments{place.Step("", "20").Arguments,
			place.Settle("20", ledger.SettledUndone).Arguments, place.RollbackTo("10").Arguments,
			last.Arguments, release.Arguments, new.Arguments,
			{Lane: "harbour", Environment: "staging", Step: "20", Acknowledge: true},
			{Lane: "harbour", Environment: "staging", Typed: "staging", Steps: "20,30", Person: "m.kai",
				Grant: "reader@harbour", Step: "20"}} {
			if act == remedy.Rollback && a.To == "" && a.Last == 0 || act == remedy.Settle && a.As == "" ||
				act == remedy.Approve && a.Release == "" ||
				act == remedy.Confirm && a.Typed == "" ||
				act == remedy.SubmitGone && a.Steps == "" ||
				(act == remedy.Grant || act == remedy.MakeToken) && a.Person == "" {
				continue // nobody advises that
			}
			needsStep := act == remedy.Attest || act == remedy.Amend || act == remedy.Settle ||
				act == remedy.LookAtEvidence
			if needsStep && a.Step == "" {
				continue
			}
			command := advice.Command(act, a)
			if added, is := strings.CutPrefix(command, "the same with "); is { // to a command of the same words
				command = map[remedy.Move]string{remedy.Confirm: "vorrang rebuild -env staging ",
					remedy.Acknowledge: "vorrang attest -env staging -step 20 -reason x ",
					remedy.DropInvalid: "vorrang settle -env staging -step 20 -as not-applied -reason x "}[act] + added
			}
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
			switch act {
			case remedy.SignIn:
				assert.Contains(t, errs, "password", "it asks for one")
				continue
			case remedy.Submit,
				remedy.SubmitGone, remedy.Declare, remedy.Sign,
				remedy.Cut: // they read a folder or a file first
			default:
				assert.Contains(t, errs, "refused", "%s\n%s%s", command, out, errs)
			}
			assert.NotEqual(t, exitUsage, code, "%s\n%s%s", command, out, errs)
		}
	}
	assert.Equal(
		t,
		"fix it; or ask: vorrang cut -lane harbour NAME, then vorrang promote -lane harbour -to staging -release 2026.11",
		advice.Text([]remedy.Remedy{
			remedy.ByHand("fix it"), place.Do(remedy.Cut).And(place.Release(remedy.Promote, "2026.11")).For("or ask")}),
	)
}
