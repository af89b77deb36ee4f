package chart

import (
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"html"
	"strings"

	"vorrang/core/schema"
	"vorrang/service/api"
)

// marks stand before what a difference touched, so that it shows without colour.
var marks = map[schema.What]string{schema.Added: "added", schema.Removed: "removed", schema.Changed: "changed"}

// StyleSource is the picture's style as a content policy names it.
var StyleSource = func() string {
	sum := sha256.Sum256([]byte(style))
	return "'sha256-" + base64.StdEncoding.EncodeToString(sum[:]) + "'"
}()

const style = `text{font:12px sans-serif;fill:#1f2933}.head{font-weight:bold}.type,.more{fill:#62707e}.box{fill:#fff;stroke:#8a97a5}
.link{fill:none;stroke:#8a97a5;stroke-width:1.3}.added .box,.added.link{stroke:#1a7f37;stroke-width:2.5}.removed .box,.removed.link{stroke:#b42318;stroke-width:2.5;stroke-dasharray:6 4}
.changed .box,.changed.link{stroke:#9a6700;stroke-width:2.5}.what{font-style:italic;font-size:11px}text.added{fill:#1a7f37}text.removed{fill:#b42318}text.changed{fill:#9a6700}
@media (prefers-color-scheme:dark){text{fill:#e6edf3}.type,.more{fill:#9aa7b4}.box{fill:#161b22;stroke:#667380}.link{stroke:#667380}svg{background:#0d1117}}`

// SVG draws a map as a picture that stands alone.
func SVG(m *api.Map, title string) string {
	var b strings.Builder
	const margin = 20.0
	fmt.Fprintf(
		&b,
		`<svg xmlns="http://www.w3.org/2000/svg" viewBox="%.0f %.0f %.0f %.0f" width="%.0f" height="%.0f" role="img"><title>%s</title><style>%s</style>`,
		-margin,
		-margin,
		m.Width+2*margin,
		m.Height+2*margin,
		m.Width+2*margin,
		m.Height+2*margin,
		html.EscapeString(title),
		style,
	)
	b.WriteString(
		`<defs><marker id="end" viewBox="0 0 8 8" refX="7" refY="4" markerWidth="8" markerHeight="8" orient="auto"><path d="M0 0 L8 4 L0 8 z" fill="#8a97a5"/></marker></defs>` + "\n",
	)
	for _, l := range m.Links {
		fmt.Fprintf(
			&b,
			`<path class="link %s" d="%s" marker-end="url(#end)"><title>%s</title></path>`+"\n",
			l.What, l.Path, html.EscapeString(l.Name),
		)
	}
	for _, t := range m.Tables {
		fmt.Fprintf(
			&b,
			`<g class="%s" transform="translate(%.1f %.1f)"><rect class="box" width="%.1f" height="%.1f" rx="4"/>`,
			t.What, t.X, t.Y, t.Width, t.Height,
		)
		fmt.Fprintf(
			&b,
			`<text class="head" x="%.0f" y="17">%s</text>`,
			padding, html.EscapeString(cut(t.Name, int((t.Width-2*padding)/letterWidth))),
		)
		if t.What != "" {
			fmt.Fprintf(&b, `<text class="what %s" x="%.0f" y="-5">%s</text>`, t.What, padding/2, marks[t.What])
		}
		for i, c := range t.Columns {
			y := headHeight + float64(i)*rowHeight + 12
			name := c.Name
			if c.Key != "" {
				name += map[string]string{"primary": " ◆", "foreign": " ◇"}[c.Key]
			}
			if c.What != "" {
				name += " " + marks[c.What]
			}
			fmt.Fprintf(&b, `<text class="%s" x="%.0f" y="%.0f">%s</text>`, c.What, padding, y, html.EscapeString(name))
			fmt.Fprintf(&b, `<text class="type" x="%.0f" y="%.0f" text-anchor="end">%s</text>`, t.Width-padding, y,
				html.EscapeString(cut(c.Type, max(int((t.Width-2*padding)/letterWidth)-len([]rune(name))-2, 4))))
		}
		if t.More > 0 {
			fmt.Fprintf(
				&b,
				`<text class="more" x="%.0f" y="%.0f">and %d more columns</text>`,
				padding, headHeight+float64(len(t.Columns))*rowHeight+12, t.More,
			)
		}
		b.WriteString("</g>\n")
	}
	b.WriteString("</svg>\n")
	return b.String()
}

// cut shortens a text to so many letters.
func cut(text string, letters int) string {
	if runes := []rune(text); len(runes) > letters {
		return string(runes[:max(letters-1, 1)]) + "…"
	}
	return text
}
