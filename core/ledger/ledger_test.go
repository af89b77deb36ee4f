package ledger

import (
	"encoding/json"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"
	"unsafe"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/step"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 123456789, time.UTC)

// chain links entries into a ledger.
func chain(entries ...Entry) []Entry {
	head := NewHead()
	for i, e := range entries {
		entries[i] = head.Next(e, noon.Add(time.Duration(i)*time.Minute))
		head = entries[i].Head()
	}
	return entries
}

func entry(action Action, number step.Number, detail ...Detail) Entry {
	e := Entry{
		Action:     action,
		Step:       number,
		Slug:       "a-step",
		Checksum:   "c" + step.Checksum(number),
		Deployment: "7",
		Actor:      "pilot",
	}
	if len(detail) > 0 {
		e.Detail = detail[0].JSON()
	}
	return e
}

// The canonical form is a promise to other tools; docs/ledger.md gives it.
func TestTheCanonicalFormIsFixed(t *testing.T) {
	e := NewHead().Next(Entry{Action: Applied, Step: "2.1", Slug: "create-berth", Checksum: "abc", Deployment: "4",
		Actor: "two\nlines", DurationMS: 12, Detail: json.RawMessage(`{"mode":"autocommit"}`)}, noon)
	assert.Equal(
		t,
		"1\n2026-11-23T12:00:00.123456Z\napplied\n2.1\ncreate-berth\nabc\n4\ntwo lines\n12\n"+
			"{\"mode\":\"autocommit\"}\n"+Genesis,
		e.Canonical(),
	)
	assert.Equal(t, json.RawMessage("{}"), NewHead().Next(Entry{}, noon).Detail)
}

func TestVerifyFindsEveryKindOfTampering(t *testing.T) {
	whole := func() []Entry {
		return chain(entry(Applied, "1"), entry(Applied, "2"), entry(RolledBack, "2"), entry(Applied, "3"))
	}
	require.NoError(t, Verify(whole()))
	require.NoError(t, Verify(nil))
	cases := map[string]func([]Entry) []Entry{
		"a changed field":      func(l []Entry) []Entry { l[1].Actor = "nobody"; return l },
		"a changed detail":     func(l []Entry) []Entry { l[1].Detail = json.RawMessage(`{ }`); return l },
		"a changed hash":       func(l []Entry) []Entry { l[1].Hash = l[0].Hash; return l },
		"a missing entry":      func(l []Entry) []Entry { return append(l[:1], l[2:]...) },
		"a missing first one":  func(l []Entry) []Entry { return l[1:] },
		"two in another order": func(l []Entry) []Entry { l[1], l[2] = l[2], l[1]; return l },
		"one made up":          func(l []Entry) []Entry { l[3] = Head{3, "made up"}.Next(l[3], noon); return l },
	}
	for name, tamper := range cases {
		t.Run(name, func(t *testing.T) {
			var broken *ChainError
			require.ErrorAs(t, Verify(tamper(whole())), &broken)
			assert.Positive(t, broken.Seq)
		})
	}
}

func TestVerifyHeadFindsARestoredBackup(t *testing.T) {
	full := chain(entry(Applied, "1"), entry(Applied, "2"), entry(Applied, "3"))
	require.NoError(t, VerifyHead(full, Head{}))
	require.NoError(t, VerifyHead(full, full[1].Head()))
	assert.ErrorContains(
		t, VerifyHead(full[:2], full[2].Head()),
		"entry 3 was seen before; was an older backup restored?",
	)
	forked := chain(entry(Applied, "1"), entry(Applied, "2"), entry(Applied, "4"))
	assert.ErrorContains(t, VerifyHead(forked, full[2].Head()), "it is not the entry that was seen before")
}

func TestFoldTellsEveryStepsState(t *testing.T) {
	begun := Detail{Mode: step.Autocommit, Statement: 1, Of: 2}
	half := Detail{Mode: step.Autocommit, Statement: 2, Of: 2, Done: "d"}
	begunBack, failedBack := begun, Detail{Direction: Back, Statement: 1, Of: 1}
	begunBack.Direction = Back
	halfBack := half
	halfBack.Direction = Back
	settled := func(d Detail, as string) Detail { d.As, d.Reason = as, "looked"; return d }
	cases := map[string]struct {
		entries []Entry
		want    Status
	}{
		"nothing": {nil, StatusPending},
		"applied": {[]Entry{entry(Applied, "1")}, StatusApplied},
		"rolled back": {
			[]Entry{entry(Applied, "1"), entry(RolledBack, "1")},
			StatusRolledBack,
		},
		"applied again": {
			[]Entry{entry(Applied, "1"), entry(RolledBack, "1"), entry(Applied, "1")},
			StatusApplied,
		},
		"failed": {
			[]Entry{entry(Failed, "1", Detail{Statement: 1, Of: 3})},
			StatusFailed,
		},
		"begun, and nothing more": {[]Entry{entry(Begun, "1", begun)}, StatusInDoubt},
		"begun and applied": {
			[]Entry{entry(Begun, "1", begun), entry(Applied, "1")},
			StatusApplied,
		},
		"begun and failed": {
			[]Entry{entry(Begun, "1", begun), entry(Failed, "1", begun)},
			StatusFailed,
		},
		"a way back that failed as a whole": {
			[]Entry{entry(Applied, "1"), entry(Failed, "1", failedBack)},
			StatusApplied,
		},
		"a way back in doubt": {
			[]Entry{entry(Applied, "1"), entry(Begun, "1", begunBack)},
			StatusInDoubt,
		},
		"a way back that failed at its start": {
			[]Entry{entry(Applied, "1"), entry(Begun, "1", begunBack), entry(Failed, "1", begunBack)},
			StatusApplied,
		},
		"a way back that stopped half-way": {
			[]Entry{
				entry(Applied, "1"),
				entry(Begun, "1", begunBack),
				entry(Begun, "1", halfBack),
				entry(Failed, "1", halfBack),
			},
			StatusFailed,
		},
		"in doubt, settled as applied": {
			[]Entry{entry(Begun, "1", half), entry(Settled, "1", settled(half, SettledApplied))},
			StatusApplied,
		},
		"in doubt, settled as not applied": {
			[]Entry{entry(Begun, "1", half), entry(Settled, "1", settled(half, SettledNotApplied))},
			StatusFailed,
		},
		"in doubt, a statement settled as applied": {
			[]Entry{entry(Begun, "1", begun), entry(Settled, "1", Detail{As: SettledApplied, Next: 2, Done: "d"})},
			StatusFailed,
		},
		"a batches step under way": {
			[]Entry{entry(Begun, "1", Detail{Mode: step.Batches, Statement: 1, Of: 1})},
			StatusInDoubt,
		},
		"a half step whose way back failed": {
			[]Entry{
				entry(Begun, "1", begun),
				entry(Failed, "1", half),
				entry(Begun, "1", begunBack),
				entry(Failed, "1", begunBack),
			},
			StatusFailed,
		},
		"a half way back, settled as not applied": {
			[]Entry{
				entry(Applied, "1"),
				entry(Begun, "1", halfBack),
				entry(Settled, "1", settled(halfBack, SettledNotApplied)),
			},
			StatusFailed,
		},
		"a way back in doubt, settled as applied": {
			[]Entry{
				entry(Applied, "1"),
				entry(Begun, "1", begunBack),
				entry(Settled, "1", settled(begunBack, SettledApplied)),
			},
			StatusRolledBack,
		},
		"a way back in doubt, settled as not": {
			[]Entry{
				entry(Attested, "1"),
				entry(Begun, "1", begunBack),
				entry(Settled, "1", settled(begunBack, SettledNotApplied)),
			},
			StatusAttested,
		},
		"covered": {
			[]Entry{entry(Baselined, "3", Detail{Covers: []step.Number{"1", "3"}})},
			StatusCovered,
		},
		"below a baseline that did not know it": {
			[]Entry{entry(Baselined, "3", Detail{Covers: []step.Number{"2", "3"}})},
			StatusPending,
		},
		"below a baseline without a list":       {[]Entry{entry(Baselined, "3")}, StatusCovered},
		"nothing is covered by a baseline at 0": {[]Entry{entry(Baselined, "0")}, StatusPending},
		"applied above a baseline, and rolled back": {
			[]Entry{entry(Baselined, "0"), entry(Applied, "1"), entry(RolledBack, "1")},
			StatusRolledBack,
		},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			state := Fold(chain(c.entries...))
			assert.Equal(t, c.want, state.Of("1").Status)
			if c.want == StatusApplied || c.want == StatusAttested {
				assert.Equal(t, step.Checksum("c1"), state.Of("1").Checksum, "the checksum is that of the forward text")
			}
		})
	}
}

func TestFoldKnowsHowFarAHalfStepCame(t *testing.T) {
	state := Fold(chain(
		entry(Begun, "1", Detail{Mode: step.Autocommit, Statement: 1, Of: 3}),
		entry(Begun, "1", Detail{Mode: step.Autocommit, Statement: 2, Of: 3, Done: "sum"}),
		entry(Failed, "1", Detail{Mode: step.Autocommit, Statement: 2, Of: 3, Done: "sum", Error: "no"})))
	assert.Equal(
		t,
		Detail{Mode: step.Autocommit, Statement: 2, Of: 3, Done: "sum", Error: "no"},
		state.Of("1").Progress(),
	)
}

func TestAStepSettledAsNotAppliedGoesOnWhereItWasInDoubt(t *testing.T) {
	doubt := Detail{Mode: step.Autocommit, Statement: 2, Of: 3, Done: "sum"}
	settled := doubt
	settled.As, settled.Reason = SettledNotApplied, "looked"
	state := Fold(chain(entry(Begun, "1", doubt), entry(Settled, "1", settled)))
	assert.Equal(t, StatusFailed, state.Of("1").Status)
	assert.Equal(t, doubt, state.Of("1").Progress())
}

// A waiver of the order holds for a step as long as what is said of it later is
// about the same deployment.
func TestAWordAboutAStepKeepsThatItsOrderWasWaived(t *testing.T) {
	begun := entry(
		Begun, "1",
		Detail{Mode: step.Autocommit, Statement: 1, Of: 2, Waived: []Waived{{Check: WaivedOrder}}},
	)
	begun.Deployment = "7"
	output := func(e Entry) Entry { e.Deployment = ""; return e }
	assert.True(t, Fold(chain(begun)).Of("1").OrderWaived)
	settled := output(entry(Settled, "1", Detail{As: SettledApplied, Reason: "looked"}))
	assert.True(t, Fold(chain(begun, settled)).Of("1").OrderWaived)
	assert.True(t, Fold(chain(begun, settled, output(entry(Amended, "1")))).Of("1").OrderWaived)
	assert.False(t, Fold(chain(begun, settled, output(entry(Attested, "1")))).Of("1").OrderWaived, "that is another time")
	again := entry(Applied, "1")
	again.Deployment = "8"
	assert.False(t, Fold(chain(begun, settled, again)).Of("1").OrderWaived)
}

func TestAStatementSettledAsAppliedIsPassedOver(t *testing.T) {
	doubt := Detail{Mode: step.Autocommit, Statement: 2, Of: 3, Done: "sum of 1"}
	state := Fold(
		chain(
			entry(Begun, "1", doubt),
			entry(Settled, "1", Detail{As: SettledApplied, Next: 3, Done: "sum of 2", Reason: "looked"}),
		),
	)
	assert.True(t, state.Of("1").Partly())
	assert.Equal(t, Detail{Mode: step.Autocommit, Statement: 3, Of: 3, Done: "sum of 2"}, state.Of("1").Progress())
}

func TestTheStateKnowsWhereATargetStands(t *testing.T) {
	state := Fold(chain(entry(Baselined, "3", Detail{Covers: []step.Number{"1", "2", "3"}}),
		entry(Applied, "10"), entry(Applied, "4"), entry(Applied, "11"), entry(RolledBack, "11")))
	assert.Equal(t, step.Number("10"), state.At())
	assert.Equal(t, []step.Number{"10", "4"}, state.Order, "in the order in which they were run")
	assert.Equal(t, int64(5), state.Head.Seq)
	assert.Equal(t, step.Number("3"), Fold(chain(entry(Baselined, "3"))).At())
	assert.Empty(t, Fold(chain(entry(Baselined, "0"))).At())
}

// FuzzCanonical: two entries that differ are told apart by what is hashed, unless
// they differ in line feeds, which no field may hold.
func FuzzCanonical(f *testing.F) {
	f.Add("1", "a", "applied", "pilot", "{}", int64(1))
	f.Add("1", "", "", "a\nb", `{"a":1}`, int64(-1))
	f.Fuzz(func(t *testing.T, number, slug, action, actor, detail string, seq int64) {
		e := Entry{
			Seq:      seq,
			Step:     step.Number(number),
			Slug:     slug,
			Action:   Action(action),
			Actor:    actor,
			Detail:   json.RawMessage(detail),
			PrevHash: Genesis,
			At:       time.Unix(1, 0).UTC(),
		}
		e.Hash = e.Sum()
		if strings.Contains(number+slug+action+actor+detail, "\n") {
			return
		}
		for _, change := range []func(*Entry){func(e *Entry) { e.Actor += "x" }, func(e *Entry) { e.Slug += "x" },
			func(e *Entry) { e.Seq++ }, func(e *Entry) { e.Detail = append(e.Detail, ' ') },
			func(e *Entry) { e.Actor, e.Deployment = e.Deployment, e.Actor+"y" }} {
			other := e
			other.Detail = append(json.RawMessage{}, e.Detail...)
			change(&other)
			assert.NotEqual(t, e.Canonical(), other.Canonical())
			assert.NotEqual(t, e.Hash, other.Sum())
		}
	})
}

// A key knows its own entries, each at its place only.
func TestAKeyTellsItsEntriesFromOthers(t *testing.T) {
	key := Key(strings.Repeat("k", KeySize))
	for _, detail := range []string{"", "{}", `{"reason":"tide"}`, `{"proof":"` + Genesis + `"}`} {
		first := key.Next(NewHead(), Entry{Action: Settled, Step: "1", Detail: json.RawMessage(detail)}, noon)
		require.NoError(t, Verify([]Entry{first}))
		assert.True(t, json.Valid(first.Detail), "%s", first.Detail)
		assert.Empty(t, key.Unproved([]Entry{first}, NewHead()))
		for name, change := range map[string]func(*Entry){
			"seq": func(e *Entry) { e.Seq++ }, "at": func(e *Entry) { e.At = e.At.Add(time.Second) },
			"action": func(e *Entry) { e.Action = Applied },
			"step":   func(e *Entry) { e.Step = "2" }, "slug": func(e *Entry) { e.Slug = "x" },
			"checksum":   func(e *Entry) { e.Checksum = "x" },
			"deployment": func(e *Entry) { e.Deployment = "7" }, "actor": func(e *Entry) { e.Actor = "x" },
			"duration": func(e *Entry) { e.DurationMS++ },
			"detail":   func(e *Entry) { e.Detail = append(json.RawMessage(`{"tables":1,`), e.Detail[1:]...) },
			"before":   func(e *Entry) { e.PrevHash = "x" },
		} {
			forged := first
			change(&forged)
			assert.Len(
				t,
				key.Unproved([]Entry{key.Next(NewHead(), Entry{}, noon), forged}, NewHead()),
				1, "%s of %s", name, detail,
			)
		}
		assert.Len(
			t,
			Key("another").Unproved([]Entry{first}, Head{Seq: 0}),
			0,
			"of whom nothing was seen and nothing is there",
		)
		assert.Len(t, Key("another").Unproved([]Entry{first, first.Head().Next(Entry{}, noon)}, first.Head()), 1)
	}
	assert.Equal(
		t,
		NewHead().Next(Entry{Step: "1"}, noon),
		Key(nil).Next(NewHead(), Entry{Step: "1"}, noon),
		"without a key nothing is proved",
	)
}

// A target that no service of these records checked holds entries of others, and is
// taken as it is; what stands after an entry of its own is not.
func TestWhatStandsBehindTheFirstProofIsHeldAgainstTheKey(t *testing.T) {
	key := Key(strings.Repeat("k", KeySize))
	other := NewHead().Next(Entry{Action: Applied, Step: "1", Deployment: "7"}, noon)
	own := key.Next(other.Head(), Entry{Action: Begun, Step: "2", Deployment: "1"}, noon)
	forged := own.Head().Next(Entry{Action: Applied, Step: "2", Deployment: "1", Detail: own.Detail}, noon)
	all := []Entry{other, own, forged}
	assert.Empty(t, key.Unproved(all[:2], Head{}))
	assert.Equal(t, all[2:], key.Unproved(all, Head{}))
}

// A file's rows are proved by what is known of them before, one after the other.
func TestARowOfAFileIsProvedAtItsPlace(t *testing.T) {
	key := Key(strings.Repeat("k", KeySize))
	head, rows := NewHead(), []Entry{}
	add := func(e Entry, index int) {
		e.Deployment = "standalone-0"
		e.Detail = withProof(
			json.RawMessage(`{"rows":7}`),
			key.Proof(Row{e.Deployment, index, e.Action, e.Step, e.Checksum}),
		)
		rows = append(rows, head.Next(e, noon))
		head = rows[len(rows)-1].Head()
	}
	add(Entry{Action: Begun, Step: "1", Checksum: "a"}, 0)
	add(Entry{Action: Applied, Step: "1", Checksum: "a"}, 1)
	assert.Empty(t, key.Unproved(rows, NewHead()))
	add(Entry{Action: Applied, Step: "1", Checksum: "a"}, 1) // the same proof again
	add(Entry{Action: Applied, Step: "2", Checksum: "a"}, 1) // and for another step
	assert.Equal(t, rows[2:], key.Unproved(rows, NewHead()))
}

// TestADetailThatIsAProofAloneIsBare: and no other one of its length.
func TestADetailThatIsAProofAloneIsBare(t *testing.T) {
	proof := `{"proof":"` + strings.Repeat("0a", 32) + `"}`
	for detail, is := range map[string]bool{
		"": true, "{}": true, proof: true, proof + " ": false,
		`{"proof":"` + strings.Repeat("0", 64-13) + `","left":1234` + `}`: false,
		`{"error":"` + strings.Repeat("0a", 32) + `"}`:                    false,
	} {
		assert.Equal(t, is, bare([]byte(detail)), detail)
	}
}

// TestEntriesShareWhatTheySayAlike: a ledger that is kept takes half of the room.
func TestEntriesShareWhatTheySayAlike(t *testing.T) {
	var entries []Entry
	head := NewHead()
	for i := range 100 {
		e := head.Next(Entry{
			Action: Action(strings.Clone(string(Applied))), Step: step.Number(strconv.Itoa(i % 3)), Slug: strings.Clone("create-berth"),
			Checksum: step.Checksum(strings.Clone("2f1d")), Deployment: strconv.Itoa(i), Actor: strings.Clone("a.lund"),
		}, time.Unix(int64(i), 0))
		head = e.Head()
		e.PrevHash = strings.Clone(e.PrevHash)
		entries = append(entries, e)
	}
	was := slices.Clone(entries)
	Share(entries)
	assert.Equal(t, was, entries, "nothing is said otherwise")
	at := func(text string) *byte { return unsafe.StringData(text) }
	for i := 3; i < len(entries); i++ {
		assert.Same(t, at(entries[i-1].Hash), at(entries[i].PrevHash))
		assert.Same(t, at(entries[0].Actor), at(entries[i].Actor))
		assert.Same(t, at(string(entries[i-3].Step)), at(string(entries[i].Step)))
	}
}
