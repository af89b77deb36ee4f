package main

import (
	"encoding/json"
	"os"
	"path"
	"path/filepath"

	"vorrang/core/review"
	"vorrang/service/api"
)

// The parts of SARIF 2.1.0 that a review fills. Source:
// https://docs.oasis-open.org/sarif/sarif/v2.1.0/sarif-v2.1.0.html
type (
	sarifLog struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool struct {
			Driver sarifDriver `json:"driver"`
		} `json:"tool"`
		ColumnKind string        `json:"columnKind"`
		Results    []sarifResult `json:"results"`
	}
	sarifDriver struct {
		Name    string      `json:"name"`
		Version string      `json:"version,omitempty"`
		Rules   []sarifRule `json:"rules"`
	}
	sarifText struct {
		Text string `json:"text"`
	}
	sarifRule struct {
		ID     string    `json:"id"`
		Short  sarifText `json:"shortDescription"`
		Full   sarifText `json:"fullDescription"`
		Help   sarifText `json:"help"`
		Config struct {
			Level string `json:"level"`
		} `json:"defaultConfiguration"`
	}
	sarifResult struct {
		Rule         string             `json:"ruleId"`
		Level        string             `json:"level"`
		Message      sarifText          `json:"message"`
		Locations    []sarifLocation    `json:"locations"`
		Suppressions []sarifSuppression `json:"suppressions,omitempty"`
	}
	sarifSuppression struct {
		Kind          string `json:"kind"`
		Justification string `json:"justification"`
	}
	sarifLocation struct {
		Physical struct {
			Artifact struct {
				URI string `json:"uri"`
			} `json:"artifactLocation"`
			Region struct {
				Line   int `json:"startLine"`
				Column int `json:"startColumn"`
			} `json:"region"`
		} `json:"physicalLocation"`
	}
)

// sarifLevels are SARIF's words for the severities.
var sarifLevels = map[review.Severity]string{review.High: "error", review.Medium: "warning", review.Low: "note"}

// writeSARIF writes what a review found. Paths are as the folder was named, with slashes.
func writeSARIF(file, folder string, a *api.Reviewed) error {
	run := sarifRun{ColumnKind: "unicodeCodePoints", Results: []sarifResult{}}
	run.Tool.Driver = sarifDriver{Name: "Vorrang", Version: version, Rules: []sarifRule{}}
	for _, rule := range a.Rules {
		r := sarifRule{
			ID:    rule.Code,
			Short: sarifText{rule.Title},
			Full:  sarifText{rule.Why},
			Help:  sarifText{rule.Server},
		}
		r.Config.Level = sarifLevels[rule.Severity]
		run.Tool.Driver.Rules = append(run.Tool.Driver.Rules, r)
	}
	for _, f := range a.Findings {
		text := f.Message
		if f.Rewrite != "" {
			text += "\n\nInstead:\n" + f.Rewrite
		}
		result := sarifResult{Rule: f.Code, Level: sarifLevels[f.Severity], Message: sarifText{text}}
		var at sarifLocation
		at.Physical.Artifact.URI = path.Join(filepath.ToSlash(folder), f.File)
		at.Physical.Region.Line, at.Physical.Region.Column = f.Line, f.Column
		result.Locations = []sarifLocation{at}
		if f.Accepted != "" {
			result.Suppressions = []sarifSuppression{{Kind: "inSource", Justification: f.Accepted}}
		}
		run.Results = append(run.Results, result)
	}
	text, err := json.MarshalIndent(sarifLog{
		Schema:  "https://docs.oasis-open.org/sarif/sarif/v2.1.0/cos02/schemas/sarif-schema-2.1.0.json",
		Version: "2.1.0", Runs: []sarifRun{run},
	}, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(file, append(text, '\n'), 0o644)
}
