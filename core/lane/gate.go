package lane

import (
	"errors"
	"slices"
	"time"

	"go.yaml.in/yaml/v4"

	"vorrang/core/release"
	"vorrang/core/review"
)

// Gate is what an environment asks of a promotion beyond what every gate asks.
type Gate struct {
	Release    bool            `json:"release" description:"Only sealed releases, no loose steps."`
	Previous   bool            `json:"previous_environment" description:"Everything must be applied in the environment before."`
	WayBack    bool            `json:"way_back" description:"Every step must have a way back."`
	Soak       time.Duration   `json:"soak_ns" description:"How long everything must have been in the environment before, without trouble; nanoseconds, 0 for not asked."`
	Backup     time.Duration   `json:"backup_ns" description:"How old the newest reported backup may be; nanoseconds, 0 for not asked."`
	Approvals  int             `json:"approvals" description:"How many people must approve of a release; 0 for not asked."`
	NotAuthors bool            `json:"approvers_are_not_authors,omitempty" description:"Those who submitted a step of it do not count."`
	Signers    []release.Key   `json:"signers,omitempty" description:"Whose signature a release must have: of one of these keys."`
	Drift      bool            `json:"no_drift,omitempty" description:"The schema must be as the last deployment left it."`
	Rehearsal  bool            `json:"rehearsal,omitempty" description:"The steps must have been rehearsed on a copy of the target, as it is."`
	Findings   review.Severity `json:"findings,omitempty" enum:"high,medium,low" description:"From which severity on a finding of the review holds, unless the step's author accepts it."`
	Window     *Window         `json:"window,omitempty" description:"When it may be changed; at any time, if absent."`
}

// production is the environment that asks for releases unless its gate says
// otherwise.
const production = "production"

// Asks is what an environment's gate asks: what the lane file says, or what is
// usual for its name.
func (e Environment) Asks() Gate {
	if e.Gate != nil {
		return *e.Gate
	}
	return usual(e.Name)
}

func usual(environment string) Gate {
	strict := environment == production
	return Gate{Release: strict, Previous: strict}
}

const gateKeys = "release, previous-environment, approvals, signers, way-back, soak, backup, drift, rehearsal, " +
	"findings, window"

// gate reads the gate section of an environment. What it does not say is as
// usual.
func (r *reader) gate(node *yaml.Node, environment string) *Gate {
	g := usual(environment)
	release := "" // what the file says of it
	r.fields(node, gateKeys, func(key string, value *yaml.Node) bool {
		switch key {
		case "release":
			g.Release, release = r.asked(value, key), value.Value
		case "approvals":
			r.approvals(value, &g)
		case "signers":
			g.Signers = r.signers(value)
		case "previous-environment":
			g.Previous = r.asked(value, key)
		case "way-back":
			g.WayBack = r.asked(value, key)
		case "soak":
			g.Soak = *r.duration(value, key)
		case "backup":
			g.Backup = *r.duration(value, key)
		case "window":
			g.Window = r.window(value)
		case "drift":
			if g.Drift = value.Value == "refused"; !g.Drift && value.Value != "not-asked" {
				r.report(value, "drift is refused or not-asked, not %q", value.Value)
			}
		case "rehearsal":
			g.Rehearsal = r.asked(value, key)
		case "findings":
			g.Findings = r.severity(value)
		default:
			return false
		}
		return true
	})
	given := ""
	switch {
	case g.Approvals > 0:
		given = "approvals"
	case len(g.Signers) > 0:
		given = "signatures"
	}
	if given != "" && release != "" && !g.Release {
		r.report(node, "%s are given to releases; write release: required, or leave it out", given)
	}
	g.Release = g.Release || given != ""
	return &g
}

// severity reads from which severity on a finding holds; empty for none.
func (r *reader) severity(value *yaml.Node) review.Severity {
	if value.Value == "not-asked" {
		return ""
	}
	if severity := review.Severity(value.Value); slices.Contains(review.Severities, severity) {
		return severity
	}
	r.report(value, "findings is high, medium, low or not-asked, not %q: from which severity on a "+
		"finding holds", value.Value)
	return ""
}

// approvals reads a number, or a section that says more.
func (r *reader) approvals(node *yaml.Node, g *Gate) {
	number := node
	if node.Kind == yaml.MappingNode {
		number = nil
		r.fields(node, "count, authors", func(key string, value *yaml.Node) bool {
			switch key {
			case "count":
				number = value
			case "authors":
				if g.NotAuthors = value.Value == "excluded"; !g.NotAuthors && value.Value != "counted" {
					r.report(value, "authors are excluded or counted, not %q", value.Value)
				}
			default:
				return false
			}
			return true
		})
	}
	const most = 9
	if number == nil {
		r.report(node, "say how many approvals: count: 1")
	} else if err := number.Decode(&g.Approvals); err != nil || g.Approvals < 0 || g.Approvals > most {
		r.report(number, "approvals is a number from 0 to %d, not %q", most, number.Value)
	}
}

// signers reads a list of public keys.
func (r *reader) signers(node *yaml.Node) (keys []release.Key) {
	if node.Kind != yaml.SequenceNode || len(node.Content) == 0 {
		r.report(node, "signers is a list of public SSH keys, each with whose it is: - ssh-ed25519 AAAA… p.holm")
	}
	for _, item := range node.Content {
		key, err := release.ParseKey(item.Value)
		if err == nil && key.Holder == "" {
			err = errors.New("say whose key it is, behind it: ssh-ed25519 AAAA… p.holm")
		}
		if err != nil {
			r.report(item, "signers: %s", err)
		}
		keys = append(keys, key)
	}
	return keys
}

// required is how asked is written.
func required(is bool) string {
	if is {
		return "required"
	}
	return "not-asked"
}

func (r *reader) asked(node *yaml.Node, key string) bool {
	switch node.Value {
	case "required":
		return true
	case "not-asked":
		return false
	}
	r.report(node, "%s is required or not-asked, not %q", key, node.Value)
	return false
}

// File is the lane as a lane file.
func (l Lane) File() []byte {
	type environment struct {
		Name             string   `yaml:"name"`
		Target           string   `yaml:"target,omitempty"`
		Targets          any      `yaml:"targets,omitempty"`
		Waves            any      `yaml:"waves,omitempty"`
		Disposable       bool     `yaml:"disposable,omitempty"`
		Scratch          string   `yaml:"scratch,omitempty"`
		RehearseOn       string   `yaml:"rehearse-on,omitempty"`
		Rehearse         string   `yaml:"rehearse,omitempty"`
		Mask             []string `yaml:"mask,omitempty,flow"`
		Role             string   `yaml:"role,omitempty"`
		LedgerRole       string   `yaml:"ledger-role,omitempty"`
		LedgerKey        string   `yaml:"ledger-key,omitempty"`
		Schemas          []string `yaml:"schemas,omitempty,flow"`
		OnFailure        string   `yaml:"on-failure,omitempty"`
		BlockAtMost      string   `yaml:"block-at-most,omitempty"`
		LockTimeout      string   `yaml:"lock-timeout,omitempty"`
		StatementTimeout string   `yaml:"statement-timeout,omitempty"`
		LookForDrift     string   `yaml:"look-for-drift,omitempty"`
		Gate             any      `yaml:"gate,omitempty"`
	}
	file := struct {
		Lane         string        `yaml:"lane"`
		About        string        `yaml:"about,omitempty"`
		Engine       string        `yaml:"engine"`
		OnFailure    string        `yaml:"on-failure,omitempty"`
		StepsMay     []string      `yaml:"steps-may,omitempty,flow"`
		Environments []environment `yaml:"environments"`
	}{Lane: l.Name, About: l.About, Engine: l.Engine, OnFailure: string(l.OnFailure), StepsMay: l.StepsMay}
	for _, e := range l.Environments {
		file.Environments = append(
			file.Environments,
			environment{
				e.Name, e.Target, e.Fleet.targets(), e.Fleet.waves(), e.Disposable, e.Scratch, e.RehearseOn, onCut(e.Rehearse), e.Mask,
				e.Role, e.LedgerRole, e.LedgerKey, e.Schemas,
				string(e.OnFailure), span(e.BlockAtMost), written(e.LockTimeout), written(e.StatementTimeout),
				span(e.LookForDrift), e.Gate.written(),
			},
		)
	}
	text, err := yaml.Marshal(file)
	if err != nil {
		panic(err) // strings and flags only
	}
	return text
}

// targets are a fleet's targets as the file says them; nil for no fleet.
func (f *Fleet) targets() any {
	if f == nil {
		return nil
	}
	if f.From != "" {
		return f.From
	}
	list := make([]map[string]string, len(f.Targets))
	for i, t := range f.Targets {
		list[i] = map[string]string{t.Name: t.Reference}
	}
	return list
}

func (f *Fleet) waves() any {
	if f == nil {
		return nil
	}
	all := map[string]int{"canary": f.Canary, "at-once": f.AtOnce, "tolerate": f.Tolerate}
	if f.Size > 0 {
		all["size"] = f.Size
	}
	return all
}

func onCut(is bool) string {
	if is {
		return whenCut
	}
	return ""
}

func written(d *time.Duration) string {
	switch {
	case d == nil:
		return ""
	case *d == 0:
		return "none"
	}
	return d.String()
}

// span is an interval as the file says it; empty for none.
func span(d time.Duration) string {
	if d == 0 {
		return ""
	}
	return Span(d)
}

func (g *Gate) written() any {
	if g == nil {
		return nil
	}
	all := map[string]any{
		"release":              required(g.Release),
		"previous-environment": required(g.Previous),
		"way-back":             required(g.WayBack),
	}
	if g.Approvals > 0 {
		authors := map[bool]string{true: "excluded", false: "counted"}
		all["approvals"] = map[string]any{"count": g.Approvals, "authors": authors[g.NotAuthors]}
	}
	if len(g.Signers) > 0 {
		lines := make([]string, len(g.Signers))
		for i, key := range g.Signers {
			lines[i] = key.Line + " " + key.Holder
		}
		all["signers"] = lines
	}
	if g.Soak > 0 {
		all["soak"] = Span(g.Soak)
	}
	if g.Backup > 0 {
		all["backup"] = Span(g.Backup)
	}
	if g.Drift {
		all["drift"] = "refused"
	}
	if g.Rehearsal {
		all["rehearsal"] = "required"
	}
	if g.Findings != "" {
		all["findings"] = g.Findings
	}
	if g.Window != nil {
		all["window"] = map[string]any{
			"days":  g.Window.Days,
			"hours": g.Window.From + "-" + g.Window.To,
			"zone":  g.Window.Zone,
		}
	}
	return all
}

// Signer names whose a key is; empty if the gate does not know it.
func (g Gate) Signer(key release.Key) string {
	for _, signer := range g.Signers {
		if signer.Line == key.Line {
			return signer.Holder
		}
	}
	return ""
}
