package release

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"vorrang/core/step"
	"vorrang/internal/plural"
)

// The names in a bundle, in their order.
const (
	bodyName    = "release.json"
	sumsName    = "SHA256SUMS"
	laneName    = "lane.yaml"
	summaryName = "RELEASE.md"
)

// Write writes a release as a .tar.gz: its description, SHA256SUMS, the lane
// file, a readable summary, its signatures if there are any, and its files under
// steps/. text gives the exact bytes with a digest. The same release gives the same
// bytes.
func Write(
	w io.Writer, r Release, lane []byte, steps []Sealed, signatures []Signature,
	text func(digest step.Checksum) ([]byte, error),
) error {
	packed := gzip.NewWriter(w)
	archive := tar.NewWriter(packed)
	put := func(name string, content []byte) error {
		err := archive.WriteHeader(
			&tar.Header{Name: name, Mode: 0o644, Size: int64(len(content)), ModTime: r.CutAt.Truncate(1e9).UTC()},
		)
		if err == nil {
			_, err = archive.Write(content)
		}
		return err
	}
	body, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return err
	}
	var signed strings.Builder
	for _, s := range signatures {
		signed.WriteString(s.Text)
	}
	for _, file := range []struct {
		name string
		text []byte
	}{{bodyName, append(body, '\n')}, {sumsName, []byte(Sums(steps))}, {laneName, lane},
		{summaryName, []byte(Summary(r, steps))}, {SignatureName, []byte(signed.String())}} {
		if len(file.text) == 0 {
			continue
		}
		if err := put(file.name, file.text); err != nil {
			return err
		}
	}
	for _, s := range steps {
		for _, file := range s.Files() {
			content, err := text(step.Checksum(file[1]))
			if err != nil {
				return fmt.Errorf("bundle %s: %w", file[0], err)
			}
			if err := put(Folder+"/"+file[0], content); err != nil {
				return err
			}
		}
	}
	return errors.Join(archive.Close(), packed.Close())
}

// Summary is a release in words, as Markdown.
func Summary(r Release, steps []Sealed) string {
	var b strings.Builder
	fmt.Fprintf(
		&b,
		"# %s %s\n\n%s, through %s. Cut by %s at %s UTC.\n\nDigest `%s`; `sha256sum -c SHA256SUMS` checks the files.\n",
		r.Lane, r.Name, plural.Of(r.Count, "step"), r.Through, r.Maker(),
		r.CutAt.UTC().Format("2006-01-02 15:04:05"),
		r.Digest,
	)
	if r.Commit != "" {
		state := "a clean folder"
		if !r.Clean {
			state = "a folder with changes that were not committed"
		}
		fmt.Fprintf(&b, "From commit `%s`, %s.\n", r.Commit, state)
	}
	if r.Notes != "" {
		fmt.Fprintf(&b, "\n%s\n", strings.TrimSpace(r.Notes))
	}
	b.WriteString("\n| step | title | mode | way back | check |\n|---|---|---|---|---|\n")
	for _, s := range steps {
		fmt.Fprintf(
			&b,
			"| %s | %s | %s | %s | %s |\n",
			s.Number,
			strings.ReplaceAll(s.Slug, "-", " "),
			s.Options.Mode, yes(s.Back != nil), yes(s.Check != nil),
		)
	}
	return b.String()
}

func yes(is bool) string {
	if is {
		return "yes"
	}
	return ""
}

// Read reads a bundle and gives its step files one after the other to keep. Its
// error is step.Problems where anything is not as it was sealed: a byte, a
// missing file, one too many, a signature of something else.
func Read(from io.Reader, keep func(step.File) error) (Release, []Signature, error) {
	packed, err := gzip.NewReader(from)
	if err != nil {
		return Release{}, nil, step.Problems{{Message: "this is not a bundle of a release: it is not a .tar.gz"}}
	}
	b := bundle{archive: tar.NewReader(packed), listed: map[string]string{}}
	if err := b.head(); err != nil {
		return Release{}, nil, err
	}
	if err := b.files(keep); err != nil {
		return Release{}, nil, err
	}
	for name := range b.listed {
		b.problems = append(
			b.problems,
			step.Problem{File: name, Message: "is listed in SHA256SUMS, and is not in the bundle"},
		)
	}
	if len(b.problems) > 0 {
		return Release{}, nil, b.problems
	}
	return b.release, b.signatures, nil
}

type bundle struct {
	archive  *tar.Reader
	release  Release
	listed   map[string]string // what SHA256SUMS still expects
	problems step.Problems

	sums       []byte
	signatures []Signature
}

func (b *bundle) next() (*tar.Header, []byte, error) {
	header, err := b.archive.Next()
	if err != nil {
		if errors.Is(err, io.EOF) {
			return nil, nil, io.EOF
		}
		return nil, nil, step.Problems{{Message: "the bundle broke off: " + err.Error()}}
	}
	if problem := step.CheckSize(header.Name, header.Size); problem != nil {
		return nil, nil, step.Problems{*problem}
	}
	content := make([]byte, header.Size)
	if _, err := io.ReadFull(b.archive, content); err != nil {
		return nil, nil, step.Problems{{File: header.Name, Message: "the bundle broke off in this file"}}
	}
	return header, content, nil
}

// head reads what stands before the files.
func (b *bundle) head() error {
	_, body, err := b.next()
	if err != nil || json.Unmarshal(body, &b.release) != nil || b.release.Digest == "" {
		return step.Problems{
			{File: bodyName, Message: "this is not a bundle of a release: it does not begin with its description"},
		}
	}
	header, sums, err := b.next()
	if err != nil || header.Name != sumsName {
		return step.Problems{{File: sumsName, Message: "is missing behind " + bodyName}}
	}
	if digest := Digest(string(sums)); digest != b.release.Digest {
		return step.Problems{
			{
				File: sumsName,
				Message: fmt.Sprintf(
					"has the digest %s, and the release was sealed with %s: it was changed",
					digest.Short(), b.release.Digest.Short(),
				),
			},
		}
	}
	b.sums = sums
	for line := range bytes.Lines(sums) {
		digest, name, found := strings.Cut(strings.TrimSuffix(string(line), "\n"), "  ")
		if !found {
			return step.Problems{{File: sumsName, Message: "holds a line that is no checksum"}}
		}
		b.listed[name] = digest
	}
	return nil
}

func (b *bundle) files(keep func(step.File) error) error {
	for {
		header, content, err := b.next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		name, isStep := strings.CutPrefix(header.Name, Folder+"/")
		if header.Name == SignatureName {
			if b.signatures, err = Verified(b.sums, content); err != nil {
				b.problems = append(b.problems, step.Problem{File: SignatureName, Message: err.Error()})
			}
		}
		if !isStep {
			continue
		}
		want, listed := b.listed[header.Name]
		delete(b.listed, header.Name)
		switch {
		case !listed:
			b.problems = append(
				b.problems,
				step.Problem{File: header.Name, Message: "is in the bundle, and not listed in SHA256SUMS"},
			)
			continue
		case string(step.Sum(content)) != want:
			b.problems = append(
				b.problems,
				step.Problem{
					File:    header.Name,
					Message: "is not what was sealed: its checksum differs from SHA256SUMS",
				},
			)
			continue
		}
		file, problems := step.ReadFile(name, content)
		if b.problems = append(b.problems, problems...); len(problems) > 0 {
			continue
		}
		if err := keep(file); err != nil {
			return err
		}
	}
}
