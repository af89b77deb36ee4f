package draft

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"vorrang/core/schema"
)

// Scratch is a scratch database that a draft is tried on.
type Scratch interface {
	// Run runs a file's statements: all in one transaction, or each in
	// its own.
	Run(ctx context.Context, text []byte, autocommit bool) error
	// SnapshotWithNeeds reads the schema.
	SnapshotWithNeeds(ctx context.Context, schemas []string) (schema.Schema, error)
}

// Writer writes the statements that turn one schema into another: an engine does.
type Writer interface {
	Draft(is, should schema.Schema, style schema.Style) schema.Script
}

// Request says what to draft.
type Request struct {
	Writer Writer // of the lane's engine

	Present *schema.Schema // what is there; nil for an empty database
	Desired schema.Schema  // what should be
	Schemas []string       // the application's; none for all

	Owners  bool     // owners and grants too
	Renames []Rename // what is not to go and come, but to be renamed
	Settled bool     // nothing else is a rename
	Rows    []schema.Rows
}

// Step is a drafted step, without its number.
type Step struct {
	Autocommit bool   `json:"autocommit,omitempty" description:"Its statements commit one by one."`
	Forward    string `json:"forward"`
	Back       string `json:"back"`
}

// Draft is what came of a request.
type Draft struct {
	Steps        []Step               `json:"steps"`
	Questions    []Question           `json:"questions" nullable:"false" description:"What may be a rename, and has to be answered first. Nothing is drafted then."`
	Undraftable  []schema.Unsupported `json:"undraftable,omitempty" description:"What no statement was written for."`
	Irreversible []schema.Unsupported `json:"irreversible,omitempty" description:"What the ways back do not bring back as it was."`
	Reordered    []string             `json:"reordered,omitempty" description:"Tables whose columns are in another order, which no statement fixes."`
	Uncovered    []schema.Uncovered   `json:"uncovered,omitempty" description:"What is there and was not compared."`
	Losses       []string             `json:"losses,omitempty" description:"What is lost for good when the steps go forward."`
	Takes        []string             `json:"takes,omitempty" description:"What can fail or block where there are rows."`

	Proved bool   `json:"proved" description:"The steps were run and taken back on a scratch database, and made and left what they should."`
	Why    string `json:"why,omitempty" description:"Why not, if they were not proved."`

	PresentFingerprint string `json:"present_fingerprint,omitempty"`
	DesiredFingerprint string `json:"wished_fingerprint"`
}

// drafting is a draft under way.
type drafting struct {
	Request
	scratch Scratch
	draft   *Draft
	states  []schema.Schema // before the first step, and after each
}

// Make drafts the steps, and proves them on a scratch database, which must be empty. An
// error is one of the database's; that a draft cannot be proved is in it.
func Make(ctx context.Context, scratch Scratch, request Request) (*Draft, error) {
	d := &drafting{Request: request, scratch: scratch, draft: &Draft{Steps: []Step{}}}
	start, err := scratch.SnapshotWithNeeds(ctx, request.Schemas)
	if err != nil {
		return nil, err
	}
	d.draft.Uncovered = request.Desired.Uncovered
	d.draft.DesiredFingerprint = d.plain(request.Desired).Fingerprint()
	if request.Present != nil {
		present := d.plain(*request.Present)
		d.draft.PresentFingerprint = present.Fingerprint()
		d.draft.Questions = questions(present, d.plain(request.Desired), request.Renames)
		if len(d.draft.Questions) > 0 && !request.Settled {
			return d.draft, nil
		}
		d.draft.Questions = nil
		built, err := d.build(ctx, start)
		if err != nil || !built {
			return d.draft, err
		}
		if start, err = scratch.SnapshotWithNeeds(ctx, request.Schemas); err != nil {
			return nil, err
		}
	}
	if err := d.forward(ctx, start); err != nil || d.draft.Why != "" {
		return d.draft, err
	}
	if err := d.back(ctx); err != nil || d.draft.Why != "" {
		return d.draft, err
	}
	d.draft.Proved = true
	return d.draft, nil
}

// plain leaves out what does not count.
func (d *drafting) plain(s schema.Schema) schema.Schema {
	if d.Owners {
		return s
	}
	return s.Without(schema.OwnedByRole, schema.Grants)
}

// build makes what is there on the scratch database.
func (d *drafting) build(ctx context.Context, start schema.Schema) (bool, error) {
	script, err := Build(ctx, d.scratch, d.Writer, start, *d.Present, d.Owners)
	if err != nil {
		d.draft.Why = "what is there could not be built on a scratch database: " + err.Error()
		return false, nil
	}
	d.draft.Undraftable = script.Undraftable
	return true, nil
}

// Build makes a schema on a scratch database, and gives what it ran. What no statement
// could be written for is missing there.
func Build(
	ctx context.Context, scratch Scratch, writer Writer, start, desired schema.Schema, owners bool,
) (schema.Script, error) {
	script := writer.Draft(start, desired, schema.Style{Owners: owners, Concurrent: true})
	for _, part := range script.Parts {
		if err := scratch.Run(ctx, []byte(text(part.Statements, false)), part.Autocommit); err != nil {
			return script, err
		}
	}
	return script, nil
}

// forward writes the steps and runs them.
func (d *drafting) forward(ctx context.Context, start schema.Schema) error {
	d.states = []schema.Schema{start}
	var renames []schema.Drafted
	slices.SortStableFunc(
		d.Renames,
		func(a, b Rename) int { // columns first: they are named with their table's old name
			return -cmp.Compare(min(len(a.table(start)), 1), min(len(b.table(start)), 1))
		},
	)
	for _, r := range d.Renames {
		if !r.isIn(start) {
			d.draft.Why = fmt.Sprintf("there is no table or column %s to rename", r.Old)
			return nil
		}
		renames = append(renames, schema.Drafted{SQL: r.statement(r.table(start))})
	}
	if len(renames) > 0 {
		if err := d.scratch.Run(ctx, []byte(text(renames, false)), false); err != nil {
			d.draft.Why = "the renames were refused: " + err.Error()
			return nil
		}
		renamed, err := d.scratch.SnapshotWithNeeds(ctx, d.Schemas)
		if err != nil {
			return err
		}
		start = renamed
	}
	script := d.Writer.Draft(
		start, d.Desired,
		schema.Style{Owners: d.Owners, Concurrent: d.Present != nil, Rows: d.Rows},
	)
	d.draft.Undraftable, d.draft.Reordered = append(d.draft.Undraftable, script.Undraftable...), script.Reordered
	parts := script.Parts
	if len(renames) > 0 {
		if len(parts) == 0 || parts[0].Autocommit {
			parts = slices.Insert(parts, 0, schema.Part{})
		}
	}
	for i, part := range parts {
		statements := part.Statements
		if i == 0 {
			statements = append(slices.Clone(renames), statements...)
		}
		d.draft.Steps = append(d.draft.Steps, Step{Autocommit: part.Autocommit, Forward: text(statements, true)})
		if err := d.scratch.Run(ctx, []byte(text(part.Statements, false)), part.Autocommit); err != nil {
			d.draft.Why = fmt.Sprintf("step %d of the draft was refused on a scratch database: %s", i+1, err)
			return nil
		}
		for _, s := range statements {
			if s.Loses != "" {
				d.draft.Losses = append(d.draft.Losses, s.Loses)
			}
			if s.Takes != "" {
				d.draft.Takes = append(d.draft.Takes, s.SQL[:min(len(s.SQL), 80)]+": "+s.Takes)
			}
		}
		now, err := d.scratch.SnapshotWithNeeds(ctx, d.Schemas)
		if err != nil {
			return err
		}
		d.states = append(d.states, now)
	}
	if differences := d.differences(d.Desired, d.states[len(d.states)-1]); len(differences) > 0 {
		d.draft.Why = "on a scratch database the draft did not make what was desired: " + strings.Join(
			differences, "; ",
		)
	}
	return nil
}

// back writes the ways back and runs them, the newest first.
func (d *drafting) back(ctx context.Context) error {
	for i := range slices.Backward(d.draft.Steps) {
		step, from := &d.draft.Steps[i], d.states[i+1]
		refused := func(err error) error {
			d.draft.Why = fmt.Sprintf("the way back of step %d was refused on a scratch database: %s", i+1, err)
			return nil
		}
		var statements []schema.Drafted
		if i == 0 && len(d.Renames) > 0 {
			for _, r := range slices.Backward(d.Renames) {
				statements = append(statements, schema.Drafted{SQL: r.undo(r.table(d.states[0]))})
			}
			if err := d.scratch.Run(ctx, []byte(text(statements, false)), false); err != nil {
				return refused(err)
			}
			var err error
			if from, err = d.scratch.SnapshotWithNeeds(ctx, d.Schemas); err != nil {
				return err
			}
		}
		var rest []schema.Drafted
		script := d.Writer.Draft(from, d.states[i], schema.Style{Owners: d.Owners, Concurrent: step.Autocommit})
		for _, part := range script.Parts {
			rest = append(rest, part.Statements...)
		}
		d.draft.Irreversible = append(d.draft.Irreversible, script.Undraftable...)
		step.Back = text(append(statements, rest...), true)
		if err := d.scratch.Run(ctx, []byte(text(rest, false)), step.Autocommit); err != nil {
			return refused(err)
		}
		now, err := d.scratch.SnapshotWithNeeds(ctx, d.Schemas)
		if err != nil {
			return err
		}
		if differences := d.differences(d.states[i], now); len(differences) > 0 {
			d.draft.Why = fmt.Sprintf(
				"on a scratch database the way back of step %d did not leave what was there before: %s",
				i+1,
				strings.Join(differences, "; "),
			)
			return nil
		}
	}
	return nil
}

// differences says how two schemas differ, without what was not drafted.
func (d *drafting) differences(desired, got schema.Schema) []string {
	desired, got = d.plain(desired), d.plain(got)
	var samples []string
	for _, one := range schema.Compare(desired, got) {
		if slices.ContainsFunc(
			append(slices.Clone(d.draft.Undraftable), d.draft.Irreversible...),
			func(u schema.Unsupported) bool {
				return u.Kind == one.Kind && u.Name == one.Name || u.Name == one.Of
			},
		) {
			continue
		}
		text := one.String()
		for _, change := range one.Props {
			text += fmt.Sprintf(" (%s: %q instead of %q)", change.Name, change.After, change.Before)
		}
		samples = append(samples, text)
	}
	return samples[:min(len(samples), 10)]
}

// text writes statements as a file does, with what they cost as comments.
func text(statements []schema.Drafted, comments bool) string {
	var b strings.Builder
	for i, s := range statements {
		long := strings.Contains(s.SQL, "\n")
		if i > 0 && (long || strings.Contains(statements[i-1].SQL, "\n")) {
			b.WriteString("\n")
		}
		if comments && s.Loses != "" {
			fmt.Fprintf(&b, "-- ! loses %s\n", oneLine(s.Loses))
		}
		if comments && s.Takes != "" {
			fmt.Fprintf(&b, "-- ! %s\n", oneLine(s.Takes))
		}
		b.WriteString(s.SQL + ";\n")
		if s.Data != nil {
			b.Write(s.Data)
			b.WriteString("\\.\n")
		}
	}
	return b.String()
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }
