package review

import (
	"fmt"
	"slices"

	"go.yaml.in/yaml/v4"

	"vorrang/core/step"
)

// Rules are an engine's kinds of findings, by their codes.
type Rules struct {
	Setup string // what the examples run on, before their own
	list  []Rule
	codes map[string]Rule
}

// All are the rules in the order of the file.
func (r *Rules) All() []Rule { return r.list }

// Of is the rule with a code; false for one that is not known.
func (r *Rules) Of(code string) (Rule, bool) {
	rule, known := r.codes[code]
	return rule, known
}

// MustReadRules is ReadRules for rules that belong to the program.
func MustReadRules(text []byte) *Rules {
	rules, err := ReadRules(text)
	if err != nil {
		panic("the rules of the findings: " + err.Error()) // tests read them
	}
	return rules
}

// Reviewer reads steps one after the other. It is not safe for concurrent use.
type Reviewer interface {
	// Read gives the findings of a step, in the order of its lines, before anybody
	// accepted any.
	Read(s step.Step) []Finding
}

// Proof says how a test shows on a real server that a rule is true: by what holds after
// the example, and does not after the nearest script that has not the finding.
type Proof struct {
	Old      string `yaml:"old"`      // a statement of the version before: works at first, and fails then
	Shows    string `yaml:"shows"`    // a statement that fails then
	Works    bool   `yaml:"works"`    // Shows works after the example, and fails after the other
	Then     string `yaml:"then"`     // a query that gives true
	After    string `yaml:"after"`    // a statement that runs before Shows and Then
	Fails    string `yaml:"fails"`    // the example itself fails, with this code of the server
	Blocks   string `yaml:"blocks"`   // "read" or "write": what another session waits with, until the transaction ends
	On       string `yaml:"on"`       // the table that is read or written then
	Scans    string `yaml:"scans"`    // a row that the example finds, and fails over
	Rewrites string `yaml:"rewrites"` // a table that has another file
	Queue    string `yaml:"queue"`    // a table that a reader waits for, behind the step that waits
	Back     bool   `yaml:"back"`     // after the way back the schema is not what it was
	Online   bool   `yaml:"online"`   // the server refuses to do it beside writers
	Undone   bool   `yaml:"undone"`   // Then holds after a ROLLBACK of the script
	Safe     string `yaml:"safe"`     // "same": the rewritten form leaves the same schema; "works": it runs, and so does Old
}

// ReadRules reads the rules from YAML: a setup, and the rules by their codes.
func ReadRules(text []byte) (*Rules, error) {
	var file struct {
		Setup string    `yaml:"setup"`
		Rules yaml.Node `yaml:"rules"`
	}
	if err := yaml.Load(text, &file, yaml.WithKnownFields()); err != nil {
		return nil, err
	}
	rules := &Rules{Setup: file.Setup, codes: map[string]Rule{}}
	for i := 0; i+1 < len(file.Rules.Content); i += 2 {
		rule := Rule{Code: file.Rules.Content[i].Value}
		node, err := yaml.Dump(file.Rules.Content[i+1])
		if err == nil {
			err = yaml.Load(node, &rule, yaml.WithKnownFields())
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", rule.Code, err)
		}
		rules.list = append(rules.list, rule)
		rules.codes[rule.Code] = rule
	}
	return rules, nil
}

// Codes are sorted.
func (r *Rules) Codes() []string {
	codes := make([]string, 0, len(r.list))
	for _, rule := range r.list {
		codes = append(codes, rule.Code)
	}
	slices.Sort(codes)
	return codes
}
