package service

import (
	"context"
	"errors"
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"vorrang/core/plan"
	"vorrang/core/sqltext"
	"vorrang/core/step"
	"vorrang/records"
	"vorrang/service/api"
)

const (
	mostCompared  = 20      // edited steps of one environment whose texts are shown
	largestText   = 1 << 20 // bytes; larger ones are not compared line by line
	mostDifferent = 400     // lines shown of one difference
	around        = 3       // lines shown around a change
)

// compareTexts puts the differences of edited steps beside them.
func (s *library) compareTexts(ctx context.Context, p targetContext, status *api.EnvironmentStatus) error {
	compared := 0
	for i := range status.Steps {
		shown := &status.Steps[i]
		for _, flag := range shown.Flags {
			if flag != plan.Edited || compared == mostCompared {
				continue
			}
			compared++
			d, err := s.difference(ctx, p, shown.Applied, shown.Checksum)
			if err != nil {
				return err
			}
			shown.Difference = &d
		}
	}
	return nil
}

// difference compares two texts that were once submitted, by their checksums.
func (s *library) difference(
	ctx context.Context, p targetContext, applied, now step.Checksum,
) (api.TextDifference, error) {
	before, after, known, err := s.bothTexts(ctx, applied, now, s.Records.Text)
	if err != nil {
		return api.TextDifference{}, err
	}
	if !known {
		return api.TextDifference{Change: sqltext.WhatRuns, Lines: []api.DifferenceLine{},
			Omitted: "the applied text never was in this catalogue; only its checksum is known"}, nil
	}
	d := api.TextDifference{Change: p.dialect().Compare(before, after), Lines: []api.DifferenceLine{}}
	if len(before) > largestText || len(after) > largestText {
		d.Omitted = "the texts are too large to be compared line by line"
		return d, nil
	}
	d.Lines, d.Omitted = differentLines(string(before), string(after))
	return d, nil
}

// change says what an edit amounts to, without the lines. The new text is read by newText.
func (s *library) change(
	ctx context.Context, p targetContext, applied, now step.Checksum, newText readText,
) (sqltext.Change, error) {
	before, after, known, err := s.bothTexts(ctx, applied, now, newText)
	if err != nil || !known {
		return sqltext.WhatRuns, err
	}
	return p.dialect().Compare(before, after), nil
}

// bothTexts reads an applied text and the catalogue's. known is false where the
// applied one never was in the catalogue.
func (s *library) bothTexts(
	ctx context.Context, applied, now step.Checksum, newText readText,
) (before, after []byte, known bool, err error) {
	if before, err = s.Records.Text(ctx, applied); errors.Is(err, records.ErrNotFound) {
		return nil, nil, false, nil
	}
	if err == nil {
		after, err = newText(ctx, now)
	}
	return before, after, err == nil, err
}

func differentLines(before, after string) (lines []api.DifferenceLine, omitted string) {
	lines = []api.DifferenceLine{}
	unified, err := udiff.ToUnifiedDiff("", "", before, udiff.Lines(before, after), around)
	if err != nil {
		return lines, "the texts could not be compared line by line: " + err.Error()
	}
	for _, hunk := range unified.Hunks {
		was, is := hunk.FromLine, hunk.ToLine
		for _, line := range hunk.Lines {
			if len(lines) == mostDifferent {
				return lines, "there are more differences than can be shown here"
			}
			shown := api.DifferenceLine{
				Op:     "same",
				Before: was,
				After:  is,
				Text:   strings.TrimSuffix(line.Content, "\n"),
			}
			switch line.Kind {
			case udiff.Delete:
				shown.Op, shown.After = "gone", 0
				was++
			case udiff.Insert:
				shown.Op, shown.Before = "new", 0
				is++
			case udiff.Equal:
				was, is = was+1, is+1
			}
			lines = append(lines, shown)
		}
	}
	return lines, ""
}
