package service

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path"
	"slices"
	"strings"
	"sync"

	"vorrang/core/gate"
	"vorrang/core/lane"
	"vorrang/core/review"
	"vorrang/core/step"
	"vorrang/records"
	"vorrang/service/api"
)

type laneFileIn struct {
	File string `query:"file" default:"lane.yaml" description:"The file's name, for errors."`
}

func (s *Service) applyLane(c call, in *laneFileIn) (*api.LaneApplied, error) {
	l, err := lane.Parse(in.File, c.fiber.Body())
	if err != nil {
		return nil, err
	}
	if err := s.distinct(c, l); err != nil {
		return nil, err
	}
	changed := false
	err = s.doors.change(l.Name, func() (err error) {
		changed, err = s.Records.DeclareLane(c, l, c.actor)
		return err
	})
	if err != nil {
		return nil, err
	}
	c.note("lane", l.Name)
	c.note("changed", changed)
	s.looks.wake()
	s.Log.Info("lane declared", "lane", l.Name, "changed", changed, "actor", c.actor)
	return &api.LaneApplied{Lane: l, Changed: changed}, nil
}

// submission begins one to a lane; the caller abandons it in the end.
func (s *Service) submission(c call, lane string) (*records.Submission, error) {
	if _, err := s.lane(c, lane); err != nil {
		return nil, err
	}
	return s.Records.Submit(c, lane, c.actor)
}

// submit takes a step folder as a tar stream. Files are kept as they come, so
// that never more than one of them is in memory.
func (s *Service) submit(c call, in *laneIn) (*api.Submitted, error) {
	body := bodyOf(c)
	defer body.drain()
	submission, err := s.submission(c, in.Lane)
	if err != nil {
		return nil, err
	}
	defer submission.Abandon()
	files, err := receive(c, body, submission)
	if err != nil {
		return nil, err
	}
	steps, err := step.Assemble(files)
	if err != nil {
		return nil, err
	}
	difference, err := submission.Compare(c, steps)
	if err != nil {
		return nil, err
	}
	problems, err := submission.Protect(c, difference)
	if err != nil {
		return nil, err
	}
	if len(problems) > 0 {
		return nil, problems
	}
	if err := inspect(c, submission, difference); err != nil {
		return nil, err
	}
	var id int64
	err = s.doors.change(in.Lane, func() (err error) {
		id, err = submission.Finish(c, difference)
		return err
	})
	if err != nil {
		return nil, err
	}
	c.note("submission", id)
	c.note("steps", map[string]int{"new": len(difference.New), "edited": len(difference.Edited), "gone": len(difference.Gone)})
	s.Log.Info("steps submitted", "lane", in.Lane, "submission", id, "actor", c.actor,
		"new", len(difference.New), "edited", len(difference.Edited), "gone", len(difference.Gone))
	answer := submitted(id, len(steps), difference)
	return answer, s.touched(c, in.Lane, difference, answer)
}

// touched says where edited and gone steps are applied, in doubt or half
// carried out, and what the ways out are.
func (s *Service) touched(c call, laneName string, d records.Difference, answer *api.Submitted) error {
	if len(d.Edited)+len(d.Gone) == 0 {
		return nil
	}
	l, err := s.lane(c, laneName)
	if err != nil {
		return err
	}
	now := map[step.Number]step.Checksum{}
	for _, change := range d.Edited {
		now[change.Step.Number] = change.Step.Forward.Checksum
	}
	changed := slices.Concat(answer.Edited, answer.Gone)
	found, unseen := make([][]api.Touched, len(l.Environments)), make([]string, len(l.Environments))
	var wait sync.WaitGroup
	errs := make([]error, len(l.Environments))
	for i, e := range l.Environments {
		wait.Go(func() {
			ctx, cancel := context.WithTimeout(c, lookTimeout)
			defer cancel()
			facts, err := s.lookOnce(ctx, place{lane: l, environment: e, catalogue: d.Before})
			if err != nil {
				unseen[i] = e.Name
				return
			}
			found[i], errs[i] = s.touchedIn(c, facts, changed, now)
		})
	}
	wait.Wait()
	answer.Applied = append(answer.Applied, slices.Concat(found...)...)
	answer.Unlooked = append(answer.Unlooked, slices.DeleteFunc(unseen, func(name string) bool { return name == "" })...)
	return errors.Join(errs...)
}

// streamed is a request's body. It stays at its end once it is there: the
// server's own stream would wait for another request.
type streamed struct {
	from  io.Reader
	ended bool
}

func bodyOf(c call) *streamed {
	if stream := c.fiber.Request().BodyStream(); stream != nil {
		return &streamed{from: stream}
	}
	return &streamed{from: bytes.NewReader(c.fiber.Body())}
}

func (s *streamed) Read(p []byte) (int, error) {
	if s.ended {
		return 0, io.EOF
	}
	n, err := s.from.Read(p)
	s.ended = err != nil
	return n, err
}

// drain reads what follows an archive's end, or the connection's next request
// would begin in the middle of this one.
func (s *streamed) drain() { _, _ = io.Copy(io.Discard, s) }

// touchedIn says which of the changed steps a target has. now are the texts of
// the edited ones; the others are gone.
func (s *Service) touchedIn(c call, facts gate.Facts, changed []api.StepRef, now map[step.Number]step.Checksum) (found []api.Touched, err error) {
	lane, environment := facts.Lane, facts.View.Environment
	for _, ref := range changed {
		st := facts.View.State.Of(ref.Number)
		text, edited := now[ref.Number]
		if !st.Status.Present() && !unfinished(st) || edited && (st.Checksum == text || st.Checksum == "") {
			continue
		}
		t := api.Touched{StepRef: ref, Gone: !edited, Environment: environment, State: st.Status,
			Next: fmt.Sprintf("put its files back and submit; how to undo it there instead: vorrang status -lane %s -env %s", lane, environment)}
		if edited {
			t.Next = fmt.Sprintf("put the applied text back and write the change as a new step; or, if the new text is right there as it stands: "+
				"vorrang amend -lane %s -env %s -step %s -reason \"…\"", lane, environment, ref.Number)
			if t.Change, err = s.change(c, st.Checksum, text); err != nil {
				return nil, err
			}
		}
		found = append(found, t)
	}
	return found, nil
}

// receive reads a tar stream and keeps its files. Everything that is wrong with
// any file is found before it gives up.
func receive(c call, body io.Reader, submission *records.Submission) ([]step.File, error) {
	reader := tar.NewReader(body)
	var files []step.File
	var problems step.Problems
	for {
		header, err := reader.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, badRequest("send the folder with: tar -C steps -cf - . | curl --data-binary @- -H 'Content-Type: application/x-tar' …",
				"the body is not a tar archive: %s", err)
		}
		name := strings.TrimPrefix(path.Clean(header.Name), "./")
		if name == "." || step.Ignored(path.Base(name)) {
			continue
		}
		file, found, err := receiveFile(reader, header, name)
		if err != nil {
			return nil, err
		}
		if problems = append(problems, found...); len(found) > 0 {
			continue
		}
		if err := submission.Keep(c, file); err != nil {
			return nil, err
		}
		file.Bytes = nil
		files = append(files, file)
	}
	if len(problems) > 0 {
		return nil, problems
	}
	return files, nil
}

func receiveFile(reader io.Reader, header *tar.Header, name string) (step.File, step.Problems, error) {
	if header.Typeflag != tar.TypeReg || strings.Contains(name, "/") {
		return step.File{}, step.Problems{{File: name, Message: "a step folder is flat and holds ordinary files only; move it out, or its files up"}}, nil
	}
	if problem := step.CheckSize(name, header.Size); problem != nil {
		return step.File{}, step.Problems{*problem}, nil
	}
	content := make([]byte, header.Size)
	if _, err := io.ReadFull(reader, content); err != nil {
		return step.File{}, nil, refuse(http.StatusBadRequest, "invalid-request", "The request is not valid", "send it again",
			"the folder did not arrive whole: %s broke off", name)
	}
	file, problems := step.ReadFile(name, content)
	return file, problems, nil
}

// inspect reads the SQL of what is new or edited, a step at a time.
func inspect(c call, submission *records.Submission, d records.Difference) error {
	var problems step.Problems
	for _, changes := range [][]records.Change{d.New, d.Edited} {
		for _, change := range changes {
			whole, err := reload(c, submission, change.Step)
			if err != nil {
				return err
			}
			problems = append(problems, review.Check(whole)...)
		}
	}
	if len(problems) > 0 {
		return problems
	}
	return nil
}

// reload gives a step its texts back.
func reload(c call, submission *records.Submission, s step.Step) (step.Step, error) {
	text := func(f *step.File) (*step.File, error) {
		if f == nil {
			return nil, nil
		}
		whole := *f
		var err error
		whole.Bytes, err = submission.Text(c, f.Digest)
		return &whole, err
	}
	forward, err := text(&s.Forward)
	back, err2 := text(s.Back)
	check, err3 := text(s.Check)
	if err := errors.Join(err, err2, err3); err != nil {
		return s, err
	}
	s.Forward, s.Back, s.Check = *forward, back, check
	return s, nil
}

func submitted(id int64, total int, d records.Difference) *api.Submitted {
	answer := &api.Submitted{Submission: id, New: []api.StepRef{}, Edited: []api.StepRef{}, Gone: []api.StepRef{}, Late: []api.StepRef{},
		Applied: []api.Touched{}, Unlooked: []string{},
		Unchanged: d.Unchanged, Steps: total}
	for _, change := range d.New {
		ref := api.StepRef{Number: change.Step.Number, Slug: change.Step.Slug}
		answer.New = append(answer.New, ref)
		if n := len(d.Before); n > 0 && change.Before == nil && step.Compare(ref.Number, d.Before[n-1].Number) < 0 {
			answer.Late = append(answer.Late, ref)
		}
	}
	for _, change := range d.Edited {
		answer.Edited = append(answer.Edited, api.StepRef{Number: change.Step.Number, Slug: change.Step.Slug})
	}
	for _, gone := range d.Gone {
		answer.Gone = append(answer.Gone, api.StepRef{Number: gone.Number, Slug: gone.Slug})
	}
	return answer
}
