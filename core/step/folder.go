package step

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"
)

const nameRule = "a step folder holds NUMBER-SLUG.sql, NUMBER-SLUG.back.sql and NUMBER-SLUG.check.sql; " +
	"the number is digits, or digits joined by dots, and the slug lower-case letters, digits and hyphens"

var namePattern = regexp.MustCompile(`^([0-9]+(?:\.[0-9]+)*)-([a-z0-9]+(?:-[a-z0-9]+)*)(\.back|\.check)?\.sql$`)

// ParseName reads a step file's name. The error is a Problem.
func ParseName(name string) (Name, error) {
	m := namePattern.FindStringSubmatch(name)
	if m == nil {
		return Name{}, Problem{File: name, Message: "the name fits no step file: " + nameRule}
	}
	number, err := ParseNumber(m[1])
	if err == nil && number == Beginning {
		err = errors.New(
			"the number 0 stands for the beginning, before the first step; give the step a number from 1 on",
		)
	}
	if err != nil {
		return Name{}, Problem{File: name, Message: err.Error()}
	}
	part := Forward
	if m[3] != "" {
		part = Part(m[3][1:])
	}
	return Name{Number: number, Slug: m[2], Part: part}, nil
}

// Ignored reports whether a folder entry is passed over: dotfiles and
// README.md.
func Ignored(name string) bool {
	return strings.HasPrefix(name, ".") || name == "README.md"
}

// List returns the names of the step files in a folder, in order of their
// names, without reading them. Entries that cannot be step files (a sub-folder,
// a name that fits no pattern, a file over MaxFileSize) are Problems.
func List(folder fs.FS) ([]string, error) {
	entries, err := fs.ReadDir(folder, ".")
	if err != nil {
		return nil, fmt.Errorf("read the step folder: %w", err)
	}
	var names []string
	var problems Problems
	for _, entry := range entries {
		if Ignored(entry.Name()) {
			continue
		}
		if problem := checkEntry(folder, entry); problem != nil {
			problems = append(problems, *problem)
			continue
		}
		names = append(names, entry.Name())
	}
	return names, problems.orNil()
}

func checkEntry(folder fs.FS, entry fs.DirEntry) *Problem {
	if entry.IsDir() {
		return &Problem{File: entry.Name(), Message: "is a folder; a step folder is flat: move its files up, or out"}
	}
	info, err := fs.Stat(folder, entry.Name()) // of what a link leads to
	var failed *fs.PathError
	switch {
	case err != nil && entry.Type()&fs.ModeSymlink != 0:
		return &Problem{
			File:    entry.Name(),
			Message: "is a link that leads to no file of this folder; put the file itself here, or take the link out",
		}
	case errors.As(err, &failed):
		return &Problem{File: entry.Name(), Message: "cannot be read: " + failed.Err.Error()}
	case err != nil:
		return &Problem{File: entry.Name(), Message: err.Error()}
	case !info.Mode().IsRegular():
		return &Problem{
			File:    entry.Name(),
			Message: "is not an ordinary file; a step folder holds plain files only: take it out",
		}
	}
	if _, err := ParseName(entry.Name()); err != nil {
		problem := asProblem(err)
		return &problem
	}
	return CheckSize(entry.Name(), info.Size())
}

// CheckSize returns a Problem for a file over MaxFileSize, and nil otherwise.
func CheckSize(name string, size int64) *Problem {
	if size <= MaxFileSize {
		return nil
	}
	return &Problem{File: name, Message: fmt.Sprintf(
		"is %.1f MiB; a step file may have %d MiB: split it into several steps",
		float64(size)/(1<<20), MaxFileSize>>20,
	)}
}

// ReadDir reads all steps of a folder. See Assemble for the errors.
func ReadDir(folder fs.FS) ([]Step, error) {
	names, err := List(folder)
	if err != nil {
		return nil, err
	}
	files := make([]File, 0, len(names))
	var problems Problems
	for _, name := range names {
		content, err := fs.ReadFile(folder, name)
		if err != nil {
			problems = append(problems, Problem{File: name, Message: "cannot be read: " + err.Error()})
			continue
		}
		file, found := ReadFile(name, content)
		files, problems = append(files, file), append(problems, found...)
	}
	if len(problems) > 0 {
		return nil, problems
	}
	return Assemble(files)
}

// ReadFile looks at one file on its own: its name, its text and, for a forward
// file, its options. It returns what is wrong with it, or nil.
func ReadFile(name string, content []byte) (File, Problems) {
	file := File{Name: name, Bytes: content}
	parsed, err := ParseName(name)
	if err != nil {
		return file, Problems{asProblem(err)}
	}
	if problem := checkText(file); problem != nil {
		return file, Problems{*problem}
	}
	text := file.Text()
	file.Checksum = Sum(text)
	file.Digest = file.Checksum
	if len(text) != len(content) {
		file.Digest = Sum(content)
	}
	if parsed.Part != Forward {
		return file, strayOptions(
			name, text, blockComments(text),
			"options stand here; they count in the step's forward file only: move them there",
		)
	}
	var problems Problems
	file.Options, problems = parseOptions(name, text)
	return file, problems
}

func asProblem(err error) Problem {
	var problem Problem
	if !errors.As(err, &problem) {
		problem.Message = err.Error()
	}
	return problem
}

// Assemble brings files together into steps, in order of their numbers. Its
// error is Problems, and holds everything that is wrong with the folder, not
// only the first thing. No files at all is a problem too: nobody submits
// nothing on purpose.
func Assemble(files []File) ([]Step, error) {
	if len(files) == 0 {
		return nil, Problems{{Message: "the step folder is empty; write a first step, such as 0001-create-berth.sql"}}
	}
	files = slices.Clone(files)
	slices.SortFunc(files, func(a, b File) int { return strings.Compare(a.Name, b.Name) })
	found, problems := pair(files)
	if len(problems) > 0 {
		return nil, problems
	}
	steps := make([]Step, 0, len(found))
	for _, s := range found {
		steps = append(steps, *s)
	}
	slices.SortFunc(steps, func(a, b Step) int { return Compare(a.Number, b.Number) })
	return steps, nil
}

// pair brings the files of each step together.
func pair(files []File) (map[Number]*Step, Problems) {
	var problems Problems
	steps := map[Number]*Step{}
	type companion struct {
		name Name
		file File
	}
	var companions []companion
	for _, file := range files {
		name, err := ParseName(file.Name)
		if err != nil {
			problems = append(problems, asProblem(err))
			continue
		}
		if name.Part != Forward {
			companions = append(companions, companion{name, file})
			continue
		}
		if other := steps[name.Number]; other != nil {
			problems = append(problems, Problem{File: file.Name, Message: fmt.Sprintf(
				"has the number of %s (%s); give one of them another number", other.Forward.Name, name.Number)})
			continue
		}
		steps[name.Number] = &Step{Number: name.Number, Slug: name.Slug, Forward: file}
	}
	for _, c := range companions {
		if problem := attach(steps[c.name.Number], c.name, c.file); problem != nil {
			problems = append(problems, *problem)
		}
	}
	return steps, problems
}

func attach(to *Step, name Name, file File) *Problem {
	kind := "way back"
	if name.Part == Check {
		kind = "check"
	}
	if to == nil {
		return &Problem{File: file.Name, Message: fmt.Sprintf(
			"is a %s without its step: there is no forward file with number %s", kind, name.Number)}
	}
	if to.Slug != name.Slug {
		return &Problem{File: file.Name, Message: fmt.Sprintf(
			"is a %s for %q, but step %s is %s; give both the same slug",
			kind, name.Slug, name.Number, to.Forward.Name,
		)}
	}
	slot := &to.Back
	if name.Part == Check {
		slot = &to.Check
	}
	if *slot != nil {
		return &Problem{File: file.Name, Message: fmt.Sprintf(
			"is a second %s for step %s, beside %s; keep one", kind, name.Number, (*slot).Name)}
	}
	*slot = &file
	return nil
}

// checkText returns a Problem for text that can be no SQL script: empty, not
// UTF-8, or with a NUL byte.
func checkText(file File) *Problem {
	if problem := CheckSize(file.Name, int64(len(file.Bytes))); problem != nil {
		return problem
	}
	text := file.Text()
	if len(bytes.TrimSpace(text)) == 0 {
		return &Problem{File: file.Name, Message: "is empty; write its SQL, or delete the file"}
	}
	if at := bytes.IndexByte(text, 0); at >= 0 {
		line, column := Position(text, at)
		return &Problem{File: file.Name, Line: line, Column: column,
			Message: "a NUL byte, which SQL text cannot hold; is the file UTF-16? save it as UTF-8"}
	}
	if at := invalidUTF8(text); at >= 0 {
		line, column := Position(text, at)
		return &Problem{File: file.Name, Line: line, Column: column,
			Message: fmt.Sprintf("the byte 0x%02x is not UTF-8; save the file as UTF-8", text[at])}
	}
	return nil
}

func invalidUTF8(text []byte) int {
	if utf8.Valid(text) {
		return -1
	}
	at := 0
	for {
		r, size := utf8.DecodeRune(text[at:])
		if r == utf8.RuneError && size <= 1 {
			return at
		}
		at += size
	}
}

// Position turns a byte offset into a line and a column, both from 1; the
// column counts characters.
func Position(text []byte, offset int) (line, column int) {
	before := text[:min(offset, len(text))]
	start := bytes.LastIndexByte(before, '\n') + 1
	return bytes.Count(before, []byte("\n")) + 1, utf8.RuneCount(before[start:]) + 1
}
