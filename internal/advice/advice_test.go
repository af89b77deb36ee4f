package advice_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"vorrang/core/ledger"
	"vorrang/core/remedy"
	"vorrang/internal/advice"
)

func TestAMoveIsWordedAsACommand(t *testing.T) {
	at := remedy.Place{Lane: "harbour", Environment: "staging"}
	last := at.Do(remedy.Rollback)
	last.Arguments.Last = 2
	acknowledged := at.Step(remedy.Attest, "20")
	acknowledged.Arguments.Acknowledge = true
	for want, r := range map[string]remedy.Remedy{
		"vorrang promote -lane harbour -to staging": at.Do(remedy.Promote),
		"vorrang promote -lane harbour -to staging -release 2026.12": at.Release(remedy.Promote,
			"2026.12"),
		"vorrang rollback -lane harbour -env staging -to 10 -confirm staging":           at.RollbackTo("10"),
		"vorrang rollback -lane harbour -env staging -last 2 -confirm staging":          last,
		"vorrang attest -lane harbour -env staging -step 20 -acknowledge -reason \"…\"": acknowledged,
		"vorrang settle -lane harbour -env staging -step 20 -as undone -reason \"…\"": at.Settle("20",
			ledger.SettledUndone),
		"vorrang baseline -lane harbour -env staging -at N":         at.Do(remedy.Baseline),
		"vorrang baseline -lane harbour -env staging -at 20 -check": at.Step(remedy.CheckBaseline, "20"),
		"vorrang lanes":                              {Act: remedy.LookAtLanes},
		"the same with -confirm staging":             {Act: remedy.Confirm, Arguments: remedy.Arguments{Typed: "staging"}},
		"if it is meant: the same with -acknowledge": {Act: remedy.Acknowledge, Reason: "if it is meant"},
		"fix it by hand":                             remedy.ByHand("fix it by %s", "hand"),
		"seal one: vorrang cut -lane harbour NAME, then vorrang promote -lane harbour -to staging": at.Do(remedy.Cut).For("seal one").And(at.Do(remedy.Promote)),
	} {
		assert.Equal(t, want, advice.Text([]remedy.Remedy{r}))
	}
	assert.Equal(
		t, "wait; vorrang lanes",
		advice.Text([]remedy.Remedy{remedy.ByHand("wait"), {Act: remedy.LookAtLanes}}),
	)
	assert.Empty(t, advice.Text(nil))
}
