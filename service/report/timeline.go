package report

import (
	"fmt"

	"vorrang/core/engine"
	"vorrang/service/api"
)

// timeline draws for each table that the rehearsal saw others wait for how long that was:
// from the statement that took the lock to the step's end, one step after the other; empty
// for none.
func timeline(r *api.Rehearsed) markup {
	const width, left, row, head = 900.0, 260.0, 22.0, 24.0 // in the picture's units
	type bar struct {
		from, to float64
		blocks   engine.Blocks
	}
	total, at := 0.0, 0.0
	for _, s := range r.Result.Steps {
		total += float64(max(s.ForwardMS, 1))
	}
	place := func(ms float64) float64 { return left + (width-left)*ms/total }
	bars := map[string][]bar{}
	var tables []string
	ticks, d := &document{}, &document{}
	for _, s := range r.Result.Steps {
		end := at + float64(max(s.ForwardMS, 1))
		ticks.put(
			`<line x1="%v" x2="%v" y1="18" y2="100%%" class="tick"/><text x="%v" y="14">%v</text>`,
			px(place(at)),
			px(place(at)),
			px(place(at)+3),
			s.Number,
		)
		if s.Footprint != nil {
			for _, t := range s.Footprint.Tables {
				if !t.Blocks.Stops() {
					continue
				}
				if len(bars[t.Table]) == 0 {
					tables = append(tables, t.Table)
				}
				from := at
				if t.HeldMS > 0 { // the lock was not taken by the first statement
					from = max(at, end-float64(t.HeldMS))
				}
				bars[t.Table] = append(bars[t.Table], bar{from, end, t.Blocks})
			}
		}
		at = end
	}
	if len(tables) == 0 {
		return ""
	}
	d.put(`<svg viewBox="0 0 %v %v" role="img" aria-label="Which tables others would wait for, step by step">%v`,
		px(width), px(head+row*float64(len(tables))+4), markup(ticks.text.String()))
	classes := map[engine.Blocks]string{engine.ReadsAndWrites: "all", engine.Writes: "writes"}
	for i, table := range tables {
		y := head + row*float64(i)
		d.put(`<text x="0" y="%v">%v</text>`, px(y+15), table)
		for _, one := range bars[table] {
			x := place(one.from)
			d.put(`<rect class="%v" x="%v" y="%v" width="%v" height="16"><title>%v: %v wait</title></rect>`,
				classes[one.blocks], px(x), px(y+2), px(max(place(one.to)-x-1, 2)), table, one.blocks)
		}
	}
	d.put("</svg>")
	return markup(d.text.String())
}

func px(n float64) markup { return markup(fmt.Sprintf("%.1f", n)) }
