package report

import (
	_ "embed"
	"fmt"
	"html"
	"io"
	"strings"
	"time"

	"vorrang/core/gate"
	"vorrang/core/release"
	"vorrang/core/review"
	"vorrang/internal/plural"
	"vorrang/internal/visible"
	"vorrang/service/api"
)

// Page is what a report is about.
type Page struct {
	Lane, Environment string
	Release           *release.Release // nil for loose steps
	MadeBy            string
	MadeAt            time.Time
	Preview           *api.Preview
	Rehearsed         *api.Rehearsed // of exactly these steps; nil for none
}

//go:embed report.css
var css string

// Write writes the report. No text of a step is taken for HTML.
func Write(to io.Writer, p Page) error {
	d := &document{}
	what := "Loose steps"
	if p.Release != nil {
		what = "Release " + p.Release.Name
	}
	title := fmt.Sprintf("%v of %v to %v", what, p.Lane, p.Environment)
	d.put("<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n"+
		"<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n<title>%v</title>\n<style>\n%v</style>\n"+
		"</head>\n<body>\n<h1>%v</h1>\n",
		title, markup(css), title)
	d.put(
		"<p class=\"soft\">%v would be applied; made for %v at %v.",
		plural.Of(len(p.Preview.Actions), "step"),
		p.MadeBy,
		utc(p.MadeAt),
	)
	if p.Release != nil {
		d.put(" Digest <code>%v</code>.", p.Release.Digest)
	}
	d.put(" The above was so at that time: the gate is asked again at a promotion.</p>\n")
	d.gate(p.Preview)
	d.review(p.Preview)
	d.rehearsal(p)
	d.put("<h2>Steps</h2>\n")
	for _, o := range p.Preview.Overlaps {
		d.put("<p>Two versions: %v.</p>\n", o.Message)
	}
	for _, a := range p.Preview.Actions {
		d.step(a)
	}
	d.put("</body>\n</html>\n")
	_, err := io.WriteString(to, d.text.String())
	return err
}

// document collects HTML. A template of the standard library would do the same, and keep
// every method of the program in it, which takes as much memory as all of the rules.
type document struct{ text strings.Builder }

// markup is text that is HTML already.
type markup string

// put writes HTML with values in it. All but markup is escaped, and characters that are
// not shown are written as such.
func (d *document) put(format string, values ...any) {
	for i, value := range values {
		if _, is := value.(markup); !is {
			values[i] = html.EscapeString(visible.Text(fmt.Sprint(value)))
		}
	}
	fmt.Fprintf(&d.text, format, values...)
}

func utc(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 UTC") }

func words(slug string) string { return strings.ReplaceAll(slug, "-", " ") }

func (d *document) gate(p *api.Preview) {
	head := markup(`<span class="pass">The gate is clear</span>`)
	if p.Held {
		head = `<span class="hold">The gate is held</span>`
	}
	d.put("\n<h2>%v</h2>\n<table>\n", head)
	for _, c := range p.Gate {
		if c.Verdict != gate.NotAsked {
			d.put("<tr><td class=\"%v\">%v</td><td>%v</td><td>%v</td></tr>\n", c.Verdict, c.Verdict, c.ID, c.Evidence)
		}
	}
	d.put("</table>\n")
}

func (d *document) review(p *api.Preview) {
	var all []review.Finding
	for _, a := range p.Actions {
		all = append(all, a.Findings...)
	}
	open := review.Count(all).Open
	d.put(
		"\n<h2>Review</h2>\n<p>%v of severity high, %v medium, %v low that no author accepted. "+
			"Each stands with its step below.</p>\n",
		plural.Of(open[review.High], "finding"), open[review.Medium], open[review.Low],
	)
	for _, f := range review.Open(all, review.High) {
		d.put(
			"<p class=\"small\"><span class=\"high\">high</span> step <a href=\"#step-%v\">%v</a>, line %v: %v "+
				"<code>%v</code></p>\n",
			f.Step,
			f.Step,
			f.Line,
			f.Message,
			f.Code,
		)
	}
}

func (d *document) rehearsal(p Page) {
	d.put("\n<h2>Rehearsal</h2>\n")
	r := p.Rehearsed
	if r == nil {
		command := "vorrang rehearse -to " + p.Environment
		if p.Release != nil {
			command += " -release " + p.Release.Name
		}
		d.put(
			"<p>Exactly these steps were not rehearsed: <code>%v</code> tries them on a copy.</p>\n",
			command,
		)
		return
	}
	if r.Result.Passed {
		d.put("<p><span class=\"pass\">Passed</span>")
	} else {
		d.put("<p><span class=\"hold\">Did not pass</span>: %v", r.Result.Why)
	}
	d.put(", by %v at %v, on a copy of the target with %v; %v.</p>\n", r.Actor, utc(r.At), r.With, r.WaysBack)
	d.put("<table><tr><th>Step</th><th>Forward</th><th>Way back</th><th>Again</th></tr>\n")
	for _, s := range r.Result.Steps {
		again := ""
		if s.AgainMS > 0 {
			again = fmt.Sprintf("%d ms", s.AgainMS)
		}
		d.put(
			"<tr><td>%v %v</td><td>%v ms</td><td>%v</td><td>%v</td></tr>\n",
			s.Number,
			words(s.Slug),
			s.ForwardMS,
			s.WayBack,
			again,
		)
	}
	d.put("</table>\n")
	for _, s := range r.Result.Steps {
		for _, lost := range s.Rows {
			d.put("<p class=\"small high\">The way back of step %v leaves other rows: %v.</p>\n", s.Number, lost.Message)
		}
	}
	if picture := timeline(r); picture != "" {
		d.put(
			"<h3>What others would wait for</h3>\n<p class=\"small soft\">From left to right the steps, as long as they took "+
				"on the copy. "+
				"Dark (red): reads and writes wait; light (amber): writes wait.</p>\n%v\n",
			picture,
		)
	}
	if len(r.Surroundings) > 0 {
		d.put("<ul class=\"small\">")
		for _, line := range r.Surroundings {
			d.put("<li>%v</li>", line)
		}
		d.put("</ul>\n")
	}
	if len(r.Result.Effect) > 0 {
		d.put("<h3>How the schema changes</h3>\n<table>")
		for _, change := range r.Result.Effect {
			d.put("<tr><td>%v</td></tr>\n", change)
		}
		d.put("</table>\n")
	}
}

func (d *document) step(a api.PreviewAction) {
	d.put(
		"\n<h3 id=\"step-%v\">%v %v</h3>\n<p class=\"small soft\"><code>%v</code>, mode %v",
		a.Number,
		a.Number,
		words(a.Slug),
		a.File,
		a.Mode,
	)
	if a.Phase != "" {
		d.put(", phase %v", a.Phase)
	}
	d.put(", %v bytes", a.Size)
	if a.Irreversible {
		d.put("; <span class=\"medium\">no way back</span>")
	}
	d.put("</p>\n")
	for _, loss := range a.Losses {
		d.put("<p class=\"small medium\">Line %v %v: what is there then is lost.</p>\n", loss.Line, loss.What)
	}
	for _, f := range a.Findings {
		d.finding(f)
	}
	d.put("<div class=\"sql\">%v</div>\n", highlighted(a.SQL))
	if a.Shortened {
		d.put("<p class=\"small soft\">… only the beginning is shown.</p>\n")
	}
	if a.Check != "" {
		d.put("<p class=\"small soft\">must hold right after:</p><div class=\"sql\">%v</div>\n", highlighted(a.Check))
	}
}

func (d *document) finding(f review.Finding) {
	d.put("<div class=\"finding is-%v small\">\n<p><span class=\"%v\">%v</span> <code>%v</code> %v, line %v: %v</p>\n",
		f.Severity, f.Severity, f.Severity, f.Code, f.File, f.Line, f.Message)
	if f.Accepted != "" {
		d.put("<p class=\"soft\">Accepted by the author: %v</p>\n</div>\n", f.Accepted)
		return
	}
	d.put("<p class=\"soft\">%v</p>", f.Why)
	if f.Rewrite != "" {
		d.put("<pre class=\"safe\">%v</pre>", f.Rewrite)
	}
	d.put("\n</div>\n")
}
