package release

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"vorrang/core/plan"
	"vorrang/core/step"
)

// Release is a sealed, named point in the order of a lane's steps. Once cut it
// never changes.
type Release struct {
	Lane   string        `json:"lane"`
	Name   string        `json:"name"`
	Digest step.Checksum `json:"digest" description:"SHA-256 of the release's SHA256SUMS."`

	Through step.Number `json:"through" description:"The last of its steps."`
	Count   int         `json:"steps" description:"How many there are."`
	Notes   string      `json:"notes,omitempty" description:"Markdown."`

	// where it comes from
	Commit string    `json:"commit,omitempty" description:"The commit of the step folder's repository."`
	Clean  bool      `json:"clean" description:"The step folder held nothing that was not committed."`
	CutAt  time.Time `json:"cut_at"`
	CutBy  string    `json:"cut_by"`

	// of one that came as a bundle: then what stands above is what the bundle claims
	TakenInAt time.Time `json:"taken_in_at,omitzero,omitempty"`
	TakenInBy string    `json:"taken_in_by,omitempty" description:"Who took it in from a bundle; absent for one that was cut here. Who cut it, when and from what is then the bundle's word."`
}

// Maker says who made a release; of one that came as a bundle, who took it in and
// whom it claims as its maker.
func (r Release) Maker() string {
	if r.TakenInBy == "" {
		return r.CutBy
	}
	return fmt.Sprintf("taken in by %s; claims %s", r.TakenInBy, r.CutBy)
}

// Sealed is one step of a release: its place in a plan, and the SHA-256 of the
// exact bytes of its files.
type Sealed struct {
	plan.Step
	Digests Digests
}

// Digests are of the forward file, the way back and the check; empty where
// there is none.
type Digests struct{ Forward, Back, Check step.Checksum }

// Files lists the names of a step's files with their digests: forward, way
// back, check.
func (s Sealed) Files() [][2]string {
	files := [][2]string{{s.Forward.Name, string(s.Digests.Forward)}}
	if s.Back != nil {
		files = append(files, [2]string{s.Back.Name, string(s.Digests.Back)})
	}
	if s.Check != nil {
		files = append(files, [2]string{s.Check.Name, string(s.Digests.Check)})
	}
	return files
}

// Folder is where a release's files stand beside SHA256SUMS.
const Folder = "steps"

// Sums is the text that seals steps: a line for each file, in the steps' order,
// as sha256sum writes and checks them.
func Sums(steps []Sealed) string {
	var b strings.Builder
	for _, s := range steps {
		for _, file := range s.Files() {
			fmt.Fprintf(&b, "%s  %s/%s\n", file[1], Folder, file[0])
		}
	}
	return b.String()
}

// Digest is the SHA-256 of a SHA256SUMS text.
func Digest(sums string) step.Checksum {
	return step.Sum([]byte(sums))
}

// Of describes a step that was read from a folder.
func Of(s step.Step) Sealed {
	sealed := Sealed{Step: plan.Of(s), Digests: Digests{Forward: s.Forward.Digest}}
	if s.Back != nil {
		sealed.Digests.Back = s.Back.Digest
	}
	if s.Check != nil {
		sealed.Digests.Check = s.Check.Digest
	}
	return sealed
}

var namePattern = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$`)

// CheckName says what is wrong with a release's name.
func CheckName(name string) error {
	if !namePattern.MatchString(name) {
		return fmt.Errorf(
			"%q is not a valid release name; one is letters, digits, dots, hyphens and underscores, and begins with a letter or "+
				"digit, as in 2026.11",
			name,
		)
	}
	return nil
}

// Change is how a step of one release stands to another.
type Change struct {
	Number step.Number `json:"number"`
	Slug   string      `json:"slug"`
	Phase  step.Phase  `json:"phase,omitempty"`
	Mode   step.Mode   `json:"mode"`
	What   string      `json:"what" enum:"new,gone,edited"`
}

// Compare lists what a release brings against another: steps that only one of
// them has, and steps whose forward text differs.
func Compare(before, after []Sealed) []Change {
	was := make(map[step.Number]Sealed, len(before))
	for _, s := range before {
		was[s.Number] = s
	}
	changes := []Change{}
	add := func(s Sealed, what string) {
		changes = append(changes, Change{s.Number, s.Slug, s.Options.Phase, s.Options.Mode, what})
	}
	for _, s := range after {
		old, known := was[s.Number]
		delete(was, s.Number)
		switch {
		case !known:
			add(s, "new")
		case old.Forward.Checksum != s.Forward.Checksum:
			add(s, "edited")
		}
	}
	for _, s := range before {
		if _, gone := was[s.Number]; gone {
			add(s, "gone")
		}
	}
	return changes
}

// Together lists what is in any of several comparisons, each once, in the order of the steps.
func Together(lists ...[]Change) []Change {
	all := []Change{}
	for _, list := range lists {
		for _, change := range list {
			if !slices.Contains(all, change) {
				all = append(all, change)
			}
		}
	}
	slices.SortStableFunc(all, func(a, b Change) int { return step.Compare(a.Number, b.Number) })
	return all
}
