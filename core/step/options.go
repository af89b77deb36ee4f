package step

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"
)

// Mode is how a step's statements are put into transactions.
type Mode string

const (
	Transaction Mode = "transaction" // the whole step in one
	Autocommit  Mode = "autocommit"  // statement by statement
	Batches     Mode = "batches"     // one statement, repeated until it changes no row
)

// Phase is a step's part in a change that two application versions must
// survive. The zero value is none.
type Phase string

const (
	Expand   Phase = "expand"
	Migrate  Phase = "migrate"
	Contract Phase = "contract"
)

// Options is what the comment that opens a forward file says.
type Options struct {
	Mode             Mode           `json:"mode"`
	Phase            Phase          `json:"phase,omitempty"`
	Only             []string       `json:"only,omitempty"`                 // environments; none means all
	LockTimeout      *time.Duration `json:"lock_timeout_ns,omitempty"`      // nil: the environment's, or DefaultLockTimeout; 0 waits for ever
	StatementTimeout *time.Duration `json:"statement_timeout_ns,omitempty"` // nil: the environment's, or none
	BlockAtMost      *time.Duration `json:"block_at_most_ns,omitempty"`     // nil: the environment's; 0 for as long as it takes
	Retries          int            `json:"retries"`                        // after a lock timeout
	BatchSize        int            `json:"batch_size,omitempty"`           // rows; for batches
	Pause            time.Duration  `json:"pause_ns,omitempty"`             // between batches
	Accept           []Acceptance   `json:"accept,omitempty"`
}

// Acceptance is the author's word that a finding is meant.
type Acceptance struct {
	Code   string `json:"code"`
	Reason string `json:"reason"`
}

// DefaultLockTimeout is how long a statement waits for a lock where neither
// the step nor the environment says.
const DefaultLockTimeout = 5 * time.Second

// ShortestBlock is the shortest that others may have to wait: to look more often than
// some times in it would be work for the server.
const ShortestBlock = 200 * time.Millisecond

// DefaultOptions are the options of a step that gives none.
func DefaultOptions() Options {
	return Options{
		Mode:      Transaction,
		Retries:   3,
		BatchSize: 1000,
		Pause:     100 * time.Millisecond,
	}
}

// In reports whether the step is meant for an environment, or, as in ENVIRONMENT.TARGET, for a target of
// its fleet.
func (o Options) In(environment string) bool {
	environment, _, _ = strings.Cut(environment, ".")
	return len(o.Only) == 0 || slices.Contains(o.Only, environment)
}

const (
	optionsOpen  = "/*---"
	optionsClose = "---*/"
)

// holdsOption is a line in a comment that gives an option, or would.
var holdsOption = regexp.MustCompile(`(?m)(?:^|--)[ \t]*(?:` + strings.ReplaceAll(optionKeys, ", ", "|") + `)[ \t]*:`)

// opensOptions reports whether a comment opens as the options do: /*--- alone on
// its line. A heading such as /*--- part two ---*/ does not.
func opensOptions(text []byte) bool {
	rest, found := bytes.CutPrefix(text, []byte(optionsOpen))
	line, _, _ := bytes.Cut(rest, []byte("\n"))
	return found && len(bytes.TrimSpace(line)) == 0
}

// meansOptions reports whether a comment gives options, rightly opened or not: it
// begins with a dash and has a line for one.
func meansOptions(text []byte) bool {
	body := bytes.TrimLeft(bytes.TrimPrefix(text, []byte("/*")), " \t")
	return bytes.HasPrefix(body, []byte("-")) && holdsOption.Match(body)
}

// parseOptions reads the options comment of a forward file. Other comments may
// stand above it, and nothing else. A file without one has the defaults.
func parseOptions(file string, text []byte) (Options, Problems) {
	options := DefaultOptions()
	comments := blockComments(text)
	at := slices.IndexFunc(comments, func(c comment) bool { return c.first && opensOptions(text[c.from:c.to]) })
	if at < 0 {
		return options, strayOptions(file, text, comments, "")
	}
	from, to := comments[at].from, comments[at].to
	body, closed := bytes.CutSuffix(text[from+len(optionsOpen):to], []byte(optionsClose))
	if !closed {
		return options, problemAt(
			file, text, from,
			"the options comment is opened with /*--- and never closed; close it with ---*/",
		)
	}
	line, _ := Position(text, from)
	r := optionReader{file: file, firstLine: line, options: &options}
	r.read(body)
	others := slices.Delete(comments, at, at+1)
	return options, append(
		r.problems,
		strayOptions(file, text, others, "a second options comment; put all options into the first")...)
}

// strayOptions finds the first comment whose options do not count. The message is
// for one that opens as options do, "" for that of its place.
func strayOptions(file string, text []byte, comments []comment, message string) Problems {
	for _, c := range comments {
		if !meansOptions(text[c.from:c.to]) {
			continue
		}
		switch {
		case message != "":
		case c.first:
			message = "this comment holds options, and does not open as they do; open it with /*--- alone on its line, and " +
				"close it with ---*/"
		default:
			message = "options stand here, behind a statement; they count only above the first one: move them up"
		}
		return problemAt(file, text, c.from, message)
	}
	return nil
}

func problemAt(file string, text []byte, at int, message string) Problems {
	line, column := Position(text, at)
	return Problems{{File: file, Line: line, Column: column, Message: message}}
}

// OptionOffset is where an option is in a forward file's text, in bytes; 0 where it is
// not.
func OptionOffset(text []byte, key string) int {
	wanted := regexp.MustCompile(`(?m)^[ \t]*` + regexp.QuoteMeta(key) + `[ \t]*:`)
	for _, c := range blockComments(text) {
		if found := wanted.FindIndex(text[c.from:c.to]); c.first && found != nil && opensOptions(text[c.from:c.to]) {
			return c.from + found[0]
		}
	}
	return 0
}

// OptionPosition is where an option is in a forward file's text; line 1 where it
// is not.
func OptionPosition(text []byte, key string) (line, column int) {
	return Position(text, OptionOffset(text, key))
}

type optionReader struct {
	file      string
	firstLine int // of the file's line that opens the comment
	options   *Options
	problems  Problems
}

func (r *optionReader) read(body []byte) {
	var document yaml.Node
	if err := yaml.Unmarshal(body, &document); err != nil {
		line, message := YAMLError(err)
		r.problems = append(r.problems, Problem{File: r.file, Line: r.firstLine + line - 1, Column: 1,
			Message: "the options are not valid YAML: " + message})
		return
	}
	if len(document.Content) == 0 {
		return
	}
	root := document.Content[0]
	if root.Kind != yaml.MappingNode {
		r.report(root, "the options must be lines of the form key: value")
		return
	}
	seen := map[string]bool{}
	for i := 0; i+1 < len(root.Content); i += 2 {
		key, value := root.Content[i], root.Content[i+1]
		if seen[key.Value] {
			r.report(key, fmt.Sprintf("the option %q stands here twice", key.Value))
		}
		seen[key.Value] = true
		r.option(key, value)
	}
}

func (r *optionReader) report(at *yaml.Node, message string) {
	r.problems = append(
		r.problems,
		Problem{File: r.file, Line: r.firstLine + at.Line - 1, Column: at.Column, Message: message},
	)
}

const optionKeys = "mode, phase, only, lock-timeout, statement-timeout, block-at-most, retries, batch-size, " +
	"pause, accept"

func (r *optionReader) option(key, value *yaml.Node) {
	o := r.options
	switch key.Value {
	case "mode":
		o.Mode = Mode(r.oneOf(value, key.Value, string(Transaction), string(Autocommit), string(Batches)))
	case "phase":
		o.Phase = Phase(r.oneOf(value, key.Value, string(Expand), string(Migrate), string(Contract)))
	case "only":
		o.Only = r.environments(value)
	case "lock-timeout":
		d := r.duration(value, key.Value)
		o.LockTimeout = &d
	case "statement-timeout":
		d := r.duration(value, key.Value)
		o.StatementTimeout = &d
	case "block-at-most":
		d := r.duration(value, key.Value)
		if d > 0 && d < ShortestBlock {
			r.report(value, fmt.Sprintf("block-at-most: %s is too short; write none, or %s or longer", d, ShortestBlock))
		}
		o.BlockAtMost = &d
	case "retries":
		o.Retries = r.count(value, key.Value, 0, 100)
	case "batch-size":
		o.BatchSize = r.count(value, key.Value, 1, 10_000_000)
	case "pause":
		o.Pause = r.duration(value, key.Value)
	case "accept":
		o.Accept = r.acceptances(value)
	default:
		r.report(key, fmt.Sprintf("there is no option %q; the options are %s", key.Value, optionKeys))
	}
}

func (r *optionReader) oneOf(value *yaml.Node, key string, words ...string) string {
	if value.Kind == yaml.ScalarNode && slices.Contains(words, value.Value) {
		return value.Value
	}
	r.report(value, fmt.Sprintf("%s: %q is none of %s", key, value.Value, strings.Join(words, ", ")))
	return words[0]
}

func (r *optionReader) environments(value *yaml.Node) []string {
	nodes := []*yaml.Node{value}
	if value.Kind == yaml.SequenceNode {
		nodes = value.Content
	}
	var names []string
	for _, node := range nodes {
		if node.Kind != yaml.ScalarNode || node.Value == "" {
			r.report(node, "only: write environment names, as in only: [development, staging]")
			continue
		}
		names = append(names, node.Value)
	}
	if len(names) == 0 && len(r.problems) == 0 {
		r.report(value, "only: names no environment; leave the option out to mean all")
	}
	return names
}

func (r *optionReader) duration(value *yaml.Node, key string) time.Duration {
	d, err := ParseDuration(value.Value)
	if err != nil {
		r.report(value, key+": "+err.Error())
	}
	return d
}

// ParseDuration reads a duration that is not negative, such as 500ms, 5s, 2m
// or 24h; "none" and 0 are no duration.
func ParseDuration(text string) (time.Duration, error) {
	if text == "none" || text == "0" {
		return 0, nil
	}
	d, err := time.ParseDuration(text)
	if err != nil || d < 0 {
		return 0, fmt.Errorf("%q is not a duration; write a number and a unit, such as 500ms, 5s, 2m or 24h", text)
	}
	return d, nil
}

func (r *optionReader) count(value *yaml.Node, key string, least, most int) int {
	n, err := strconv.Atoi(value.Value)
	if err != nil || n < least || n > most {
		r.report(value, fmt.Sprintf("%s: %q is not a whole number from %d to %d", key, value.Value, least, most))
	}
	return n
}

func (r *optionReader) acceptances(value *yaml.Node) []Acceptance {
	if value.Kind != yaml.MappingNode {
		r.report(value, "accept: write each finding's code with your reason, as in  accept: {code: the reason}")
		return nil
	}
	var list []Acceptance
	for i := 0; i+1 < len(value.Content); i += 2 {
		code, reason := value.Content[i], value.Content[i+1]
		if strings.TrimSpace(reason.Value) == "" {
			r.report(reason, fmt.Sprintf("accept: the finding %s needs a reason", code.Value))
		}
		list = append(list, Acceptance{Code: code.Value, Reason: reason.Value})
	}
	return list
}

var yamlLine = regexp.MustCompile(`line (\d+)(?:, column \d+)?:?\s*`)

// YAMLError takes a YAML library's error apart into the line that it names
// (1 if none) and the message without library prefixes.
func YAMLError(err error) (line int, message string) {
	line = 1
	var loaded *yaml.LoadErrors
	if errors.As(err, &loaded) && len(loaded.Errors) > 0 {
		err = loaded.Errors[0]
	}
	message = strings.TrimPrefix(err.Error(), "yaml: ")
	if m := yamlLine.FindStringSubmatchIndex(message); m != nil {
		line, _ = strconv.Atoi(message[m[2]:m[3]])
		message = message[m[1]:]
	}
	return line, message
}
