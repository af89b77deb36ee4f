package gate

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"vorrang/core/engine"
	"vorrang/core/lane"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/release"
	"vorrang/core/step"
	"vorrang/internal/advice"
)

// governed is a target with step 1, to which release 2026.11 would bring the
// steps 2 and 3.
func governed() Facts {
	wait := func(number step.Number) plan.Standing {
		s := standing(number, ledger.StatusPending)
		s.Step.Forward.Checksum = step.Checksum("text of " + number)
		return s
	}
	f := facts(standing("1", ledger.StatusApplied), wait("2"), wait("3"))
	f.Now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	f.Asks, f.Release, f.Digest, f.Actor = lane.Gate{Release: true, Approvals: 2}, "2026.11", "digest", "l.berg"
	f.History, f.Entries = []ledger.Entry{{Seq: 1, Action: ledger.Applied, Step: "1"}}, 1
	f.View.State.Head.Seq = 1
	return f
}

func TestASignatureIsAskedOfSomebodyWhomTheEnvironmentNames(t *testing.T) {
	holm, berg := release.Key{
		Line:        "ssh-ed25519 A",
		Fingerprint: "SHA256:a",
		Holder:      "p.holm",
	}, release.Key{
		Line:        "ssh-ed25519 B",
		Fingerprint: "SHA256:b",
		Holder:      "l.berg",
	}
	for name, c := range map[string]struct {
		signed   []release.Key
		change   func(*Facts)
		verdict  Verdict
		evidence string
	}{
		"by one of them": {[]release.Key{{Line: "ssh-ed25519 C"}, {Line: berg.Line, Fingerprint: berg.Fingerprint}},
			func(*Facts) {}, Pass, "release 2026.11 is signed by l.berg, SHA256:b"},
		"by nobody": {nil, func(*Facts) {}, Hold, "release 2026.11 is not signed"},
		"by somebody else": {[]release.Key{{Line: "ssh-ed25519 C", Fingerprint: "SHA256:c", Holder: "p.holm"}},
			func(*Facts) {}, Hold, "by keys that staging does not name: SHA256:c"},
		"loose steps":         {nil, func(f *Facts) { f.Release, f.Digest = "", "" }, Hold, "none is named"},
		"nothing to be done":  {nil, func(f *Facts) { f.View.Steps = f.View.Steps[:1] }, Pass, "nothing is to be applied"},
		"nobody asks for one": {nil, func(f *Facts) { f.Asks.Signers = nil }, NotAsked, ""},
	} {
		f := governed()
		f.Asks, f.Signed = lane.Gate{Release: true, Signers: []release.Key{holm, berg}}, c.signed
		c.change(&f)
		check := Forward(f).Find(Signature)
		assert.Equal(t, c.verdict, check.Verdict, name)
		assert.Contains(t, check.Evidence, c.evidence, name)
		if c.verdict == Hold && f.Release != "" {
			assert.Contains(
				t, advice.Text(check.Remedies),
				"p.holm, l.berg: vorrang sign -lane harbour 2026.11 -key FILE",
				name,
			)
		}
	}
	assert.False(t, Waivable(Signature))
}

func TestApprovalsCountForExactlyWhatWasApproved(t *testing.T) {
	given := []Approval{governed().Approve("p.holm", ""), governed().Approve("k.brandt", "")}
	cases := map[string]struct {
		change   func(*Facts)
		verdict  Verdict
		evidence string
	}{
		"two others approved": {
			func(*Facts) {},
			Pass,
			"2 approvals of release 2026.11 are asked, and 2 are given: by p.holm at 2026-11-23 12:00:00 UTC, by k.brandt",
		},
		"nobody did":     {func(f *Facts) { f.Given = nil }, Hold, "and 0 are given"},
		"one did, twice": {func(f *Facts) { f.Given[1] = f.Given[0] }, Hold, "and 1 is given"},
		"the one who asks": {
			func(f *Facts) { f.Actor = "p.holm" },
			Hold,
			"that of p.holm does not count: who asks for a promotion cannot approve it",
		},
		"another release": {func(f *Facts) { f.Digest = "another" }, Hold, "it is for another release"},
		"no release":      {func(f *Facts) { f.Release, f.Digest = "", "" }, Hold, "none is named"},
		"an author": {func(f *Facts) {
			f.Asks.NotAuthors, f.Authors = true, map[step.Number][]string{"3": {"a.lund", "k.brandt"}}
		}, Hold,
			"that of k.brandt does not count: k.brandt wrote step 3"},
		"authors may": {func(f *Facts) { f.Authors = map[step.Number][]string{"3": {"k.brandt"}} }, Pass, ""},
		"a step more": {
			func(f *Facts) { f.View.Steps = append(f.View.Steps, standing("4", ledger.StatusPending)) },
			Hold,
			"the plan changed: step 4 was not in it",
		},
		"another text": {
			func(f *Facts) { f.View.Steps[1].Step.Forward.Checksum = "edited" },
			Hold,
			"the plan changed: step 2 had another text",
		},
		"another way back": {
			func(f *Facts) { f.View.Steps[2].Step.Back = &plan.Text{Checksum: "back"} },
			Hold,
			"the plan changed: step 3 had another text",
		},
		"fewer steps":          {func(f *Facts) { f.Through = "2" }, Pass, ""},
		"nothing is left":      {func(f *Facts) { f.Through = "1"; f.Given = nil }, Pass, "nothing is to be applied"},
		"the first step is in": {func(f *Facts) { done(f, 1, ledger.Begun, ledger.Failed, ledger.Applied) }, Pass, ""},
		"and out again": {
			func(f *Facts) { done(f, 1, ledger.Applied, ledger.RolledBack) },
			Hold,
			"the target changed: step 2 was rolled-back",
		},
		"done by hand": {
			func(f *Facts) { done(f, 1, ledger.Attested) },
			Hold,
			"the target changed: step 2 was attested",
		},
		"an older step undone": {
			func(f *Facts) { done(f, 0, ledger.RolledBack) },
			Hold,
			"the target changed: step 1 was rolled-back",
		},
		"a shorter ledger": {func(f *Facts) { f.History, f.Entries = nil, 0 }, Hold, "shorter than it was"},
		"not asked":        {func(f *Facts) { f.Asks.Approvals = 0 }, NotAsked, ""},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			f := governed()
			f.Given = append([]Approval{}, given...)
			c.change(&f)
			check := f.approvals()
			assert.Equal(t, c.verdict, check.Verdict, check.Evidence)
			assert.Contains(t, check.Evidence, c.evidence)
		})
	}
}

// done lets the ledger go on with actions on a step of the view.
func done(f *Facts, index int, actions ...ledger.Action) {
	s := &f.View.Steps[index]
	for _, action := range actions {
		f.Entries++
		f.History = append(f.History, ledger.Entry{Seq: int64(f.Entries), Action: action, Step: s.Step.Number})
	}
	if actions[len(actions)-1] != ledger.RolledBack {
		s.State.Status = ledger.StatusApplied
	}
}

func TestAWaiverTurnsOneHoldOfOneRelease(t *testing.T) {
	f := governed()
	f.Asks = lane.Gate{Backup: time.Hour, WayBack: true}
	assert.Equal(t, []ID{WayBack, FreshBackup}, ids(Forward(f).Holds()))
	w := Waiver{
		ID:      7,
		Check:   FreshBackup,
		Subject: f.backup().Subject(),
		Digest:  "digest",
		By:      "k.brandt",
		Reason:  "the job is being repaired",
		Until:   f.Now.Add(time.Hour),
	}
	f.Waivers = []Waiver{w}
	result := Forward(f)
	assert.Equal(t, []ID{WayBack}, ids(result.Holds()))
	assert.Equal(t, []Waiver{w}, result.Waivers)
	assert.Contains(
		t, result.Find(FreshBackup).Evidence,
		"waived by k.brandt for one deployment: the job is being repaired; else it would hold: no backup",
	)
	for name, change := range map[string]func(*Waiver){
		"for another release": func(w *Waiver) { w.Digest = "" },
		"too late":            func(w *Waiver) { w.Until = f.Now },
		"of another check":    func(w *Waiver) { w.Check = Soak },
		"for something else":  func(w *Waiver) { w.Subject = Check{}.about("another backup").Subject() },
	} {
		other := w
		change(&other)
		f.Waivers = []Waiver{other}
		assert.Equal(t, []ID{WayBack, FreshBackup}, ids(Forward(f).Holds()), name)
	}
	f.Asks = lane.Gate{Release: true, Approvals: 1}
	f.Entries, f.Existing, f.Release = 0, engine.Existing{Tables: 1}, ""
	f.Waivers = nil
	for _, c := range Forward(f).Checks {
		f.Waivers = append(f.Waivers, Waiver{Check: c.ID, Digest: "digest", Until: f.Now.Add(time.Hour)})
	}
	assert.Equal(t, []ID{KnownDatabase, SealedRelease, Approvals}, ids(Forward(f).Holds()), "nobody can waive these")
	assert.True(t, IsCheck(LedgerIntact))
	assert.False(t, IsCheck("moon"))
}

func TestAChangeOfTheGateIsShown(t *testing.T) {
	f := governed()
	f.Changes = []Asking{
		{What: "approvals: 1, was 2", By: "root", At: f.Now},
		{What: "soak: 0s, was 1h0m0s", By: "root", At: f.Now},
		{What: "backup: 0s, was 1h0m0s", By: "root", At: f.Now.Add(time.Hour)},
	}
	assert.Equal(
		t,
		[]string{
			"since the last deployment the gate was changed, by root at 2026-11-23 12:00:00 UTC: approvals: 1, was 2; soak: " +
				"0s, was 1h0m0s",
			"since the last deployment the gate was changed, by root at 2026-11-23 13:00:00 UTC: backup: 0s, was 1h0m0s",
		},
		Forward(f).Notes,
	)
}
