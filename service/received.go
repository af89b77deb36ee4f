package service

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path"
	"slices"
	"strings"

	"vorrang/core/engine"
	"vorrang/core/step"
	"vorrang/records"
	"vorrang/service/api"
)

// folder is a step folder that was sent, beside the catalogue.
type folder struct {
	submission *records.Submission
	steps      []step.Step // without their texts, which the submission keeps
	difference records.Difference
	body       io.Closer
}

// close forgets what was not finished.
func (f *folder) close() {
	f.submission.Abandon()
	_ = f.body.Close()
}

// folder takes a step folder as a tar stream, whole, before anything is done with it.
func (s *catalogue) folder(c call, lane string) (sent *folder, err error) {
	body, err := s.receiveUpload(c, lane)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			_ = body.Close()
		}
	}()
	submission, err := s.library.submission(c, lane)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			submission.Abandon()
		}
	}()
	files, err := receive(c, body, submission)
	if err != nil {
		return nil, err
	}
	sent = &folder{submission: submission, body: body}
	if sent.steps, err = step.Assemble(files); err != nil {
		return nil, err
	}
	if sent.difference, err = submission.Compare(c, sent.steps); err != nil {
		return nil, err
	}
	return sent, nil
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
			return nil, badRequest(by("send the folder as a tar archive, with Content-Type: application/x-tar"),
				"the body is not a tar archive: %s", err)
		}
		name := strings.TrimPrefix(path.Clean(header.Name), "./")
		if name == "." || step.Ignored(path.Base(name)) {
			continue
		}
		content := io.Reader(reader)
		digest, known := header.PAXRecords[api.KnownText]
		if known {
			text, err := knownText(c, submission, name, step.Checksum(digest))
			if err != nil {
				return nil, err
			}
			content, header.Size = bytes.NewReader(text), int64(len(text))
		}
		file, found, err := receiveFile(content, header, name)
		if err != nil {
			return nil, err
		}
		if problems = append(problems, found...); len(found) > 0 {
			continue
		}
		if !known {
			if err := submission.Keep(c, file); err != nil {
				return nil, err
			}
		}
		file.Bytes = nil
		files = append(files, file)
	}
	if len(problems) > 0 {
		return nil, problems
	}
	return files, nil
}

// knownText is the text of a file that was not sent, since the lane has it.
func knownText(c call, submission *records.Submission, name string, digest step.Checksum) ([]byte, error) {
	text, err := submission.Known(c, digest)
	if err == nil && text == nil {
		err = refuse(http.StatusConflict, "unknown-text", "A text is not known", by("send the file itself"),
			"%s: no file of the lane has the digest %s", name, digest)
	}
	return text, err
}

// mostAsked is how many digests can be asked for at once.
const mostAsked = 25_000

type knownTextsIn struct {
	Lane    string          `path:"lane"`
	Digests []step.Checksum `json:"digests" required:"true" description:"SHA-256 of files' exact bytes, in hexadecimal."`
}

// knownTexts says which texts need not be sent.
func (s *catalogue) knownTexts(c call, in *knownTextsIn) (*api.KnownTexts, error) {
	if _, err := s.targets.lane(c, in.Lane); err != nil {
		return nil, err
	}
	if len(in.Digests) > mostAsked {
		return nil, badRequest(nil, "digests: %d are too many; ask for at most %d at once", len(in.Digests), mostAsked)
	}
	known, err := s.Records.KnownTexts(c, in.Lane)
	if err != nil {
		return nil, err
	}
	unknown := func(digest step.Checksum) bool { return !known[digest] }
	return &api.KnownTexts{Known: append([]step.Checksum{}, slices.DeleteFunc(in.Digests, unknown)...)}, nil
}

func receiveFile(reader io.Reader, header *tar.Header, name string) (step.File, step.Problems, error) {
	if header.Typeflag != tar.TypeReg || strings.Contains(name, "/") {
		return step.File{}, step.Problems{
			{File: name, Message: "a step folder is flat and holds ordinary files only; move it out, or its files up"},
		}, nil
	}
	if problem := step.CheckSize(name, header.Size); problem != nil {
		return step.File{}, step.Problems{*problem}, nil
	}
	content := make([]byte, header.Size)
	if _, err := io.ReadFull(reader, content); err != nil {
		return step.File{}, nil, refuse(
			http.StatusBadRequest, "invalid-request", "The request is not valid",
			by("send it again"),
			"the folder did not arrive whole: %s broke off",
			name,
		)
	}
	file, problems := step.ReadFile(name, content)
	return file, problems, nil
}

// inspect reads the SQL of what is new or edited, a step at a time, and keeps with each
// the mode that it can run in. may is what
// the lane's steps may change beside schemas and rows; environments are those that only: may name; nil for any.
func inspect(
	c call, kind engine.Engine, submission *records.Submission, d records.Difference, may, environments []string,
) (notes step.Problems, err error) {
	var problems step.Problems
	dialect := kind.Dialect()
	for _, changes := range [][]records.Change{d.New, d.Edited} {
		for i, change := range changes {
			whole, err := reload(c, submission, change.Step)
			if err != nil {
				return nil, err
			}
			if statements, err := dialect.Cut(whole.Forward.Text()); err == nil { // or the review says why not
				changes[i].Step.Forward.Options.Mode = dialect.Mode(whole.Options().Mode, statements)
			}
			problems = append(problems, unknownEnvironments(whole, environments)...)
			problems = append(problems, unusedOptions(whole, kind.Traits())...)
			found, noted := dialect.Review(whole, may)
			problems, notes = append(problems, found...), append(notes, noted...)
		}
	}
	if len(problems) > 0 {
		return nil, problems
	}
	return notes, nil
}

// unusedOptions finds the options of a step that an engine has no use for.
func unusedOptions(s step.Step, traits engine.Traits) (problems step.Problems) {
	if s.Options().BlockAtMost == nil || traits.Yields {
		return nil
	}
	const key = "block-at-most"
	line, column := step.OptionPosition(s.Forward.Text(), key)
	return step.Problems{{File: s.Forward.Name, Line: line, Column: column,
		Message: fmt.Sprintf("%s has no use for %s: take it out", traits.Server, key)}}
}

// unknownEnvironments finds what only: names and the lane has not.
func unknownEnvironments(s step.Step, environments []string) (problems step.Problems) {
	for _, name := range s.Options().Only {
		if environments == nil || slices.Contains(environments, name) {
			continue
		}
		line, column := step.OptionPosition(s.Forward.Text(), "only")
		problems = append(problems, step.Problem{File: s.Forward.Name, Line: line, Column: column,
			Message: fmt.Sprintf(
				"only: the lane has no environment %q; its environments are %s",
				name,
				strings.Join(environments, ", "),
			)})
	}
	return problems
}
