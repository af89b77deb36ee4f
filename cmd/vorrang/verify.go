package main

import (
	"context"
	"encoding/xml"
	"fmt"
	"slices"

	"vorrang/core/lane"
	"vorrang/core/verify"
	"vorrang/internal/advice"
	"vorrang/internal/plural"
	"vorrang/service/api"
)

func verifyCommand() command {
	return command{
		verb: "verify", does: "says whether the history is consistent: chain, checksums, order, and between environments",
		explain: "An environment that has no history yet is named as such; one that holds something without a history deviates.\n" +
			"Exit code 0 if it is, 3 if anything deviates, 5 if a step is in doubt, 1 if a target could not be reached, or not be\n" +
			"compared with the environment before.",
		example: "vorrang verify\nvorrang verify -env production -junit verify.xml",
		setUp: func(e *env) func(context.Context, []string) error {
			environment := e.flags.String("env", "", "only this `environment`")
			placed := e.targetFlag("with -env: only this `target` of a fleet; all of them without it")
			junit := e.flags.String("junit", "", "write the result to a `file` as JUnit XML too")
			return e.onLane(func(ctx context.Context, at spot, args []string) error {
				if err := e.noArguments(args); err != nil {
					return err
				}
				place, err := placed(*environment)
				if err != nil {
					return err
				}
				v, err := at.Verify(ctx, at.lane, place)
				if err != nil {
					return err
				}
				if *junit != "" {
					if err := writeJUnit(*junit, v); err != nil {
						return err
					}
				}
				if err := e.print(v, func() { printVerification(e, v) }); err != nil {
					return err
				}
				return verificationExit(v)
			})
		},
	}
}

func printVerification(e *env, v *api.Verification) {
	unreached := func(u api.Unreached) string { return u.Environment }
	for _, t := range together(v.Unreached, unreached, func(u api.Unreached) string { return advice.Text(u.Remedies) }) {
		fmt.Fprintf(
			e.out,
			"%s %s\n  → %s\n",
			e.paint.bad(v.Lane+"/"+named(t.places)+plural.Word(len(t.places), " was", " were")+" not reached:"),
			t.example(func(u api.Unreached) string { return u.Message }), e.paint.strong(advice.Text(t.list[0].Remedies)),
		)
	}
	deviating := func(d verify.Deviation) string { return d.Environment }
	for _, t := range together(v.Deviations, deviating, deviationWords) {
		d := t.list[0]
		since := ""
		if d.Since != nil && len(t.list) == 1 {
			since = e.paint.dim(" since " + moment(*d.Since) + " UTC")
		}
		fmt.Fprintf(
			e.out,
			"%s %s%s\n  → %s\n",
			e.paint.bad(fmt.Sprintf("%s/%s %s:", v.Lane, named(t.places), d.Kind)),
			t.example(func(d verify.Deviation) string { return d.What }), since, e.paint.strong(advice.Text(d.Remedies)),
		)
	}
	uncompared := func(u verify.Uncompared) string { return u.Environment }
	for _, t := range together(v.Uncompared, uncompared, func(u verify.Uncompared) string { return u.Before }) {
		fmt.Fprintf(e.out, "%s %s was not reached\n",
			e.paint.bad(v.Lane+"/"+named(t.places)+plural.Word(len(t.places), " was", " were")+" not compared with the environment before:"),
			t.list[0].Before)
	}
	empty := func(one verify.Empty) string { return one.Environment }
	for _, t := range together(v.Empty, empty, func(one verify.Empty) string { return advice.Text(one.Remedies) }) {
		if len(t.list[0].Remedies) == 0 { // nothing is wrong there
			continue
		}
		fmt.Fprintf(e.out, "%s %s\n  → %s\n", e.paint.bad(v.Lane+"/"+named(t.places)+":"),
			t.example(func(one verify.Empty) string { return one.Message }), e.paint.strong(advice.Text(t.list[0].Remedies)))
	}
	var without []string
	for _, empty := range v.Empty {
		if len(empty.Remedies) == 0 {
			without = append(without, empty.Environment)
		}
	}
	if len(without) > 0 {
		fmt.Fprintf(e.out, "%s of %s without a history yet: %s\n", plural.Of(len(without), placesNoun(without)), v.Lane, named(without))
	}
	consistent := len(v.Environments) - len(v.Uncompared)
	if len(v.Deviations) == 0 && consistent > 0 {
		fmt.Fprintf(
			e.out,
			"%s in %s of %s\n",
			e.paint.good("the history is consistent"),
			plural.Of(consistent, placesNoun(v.Environments)),
			v.Lane,
		)
	}
}

// deviationWords is what is said of a deviation, but for when it came about.
func deviationWords(d verify.Deviation) string {
	return fmt.Sprint(d.Kind, d.Step, d.What, advice.Text(d.Remedies))
}

func verificationExit(v *api.Verification) error {
	code := exitDone
	if len(v.Deviations) > 0 || slices.ContainsFunc(v.Empty, func(e verify.Empty) bool { return len(e.Remedies) > 0 }) {
		code = exitHeld
	}
	for _, d := range v.Deviations {
		if d.Kind == verify.InDoubt {
			code = exitInDoubt
		}
	}
	if len(v.Unreached) > 0 || len(v.Uncompared) > 0 {
		code = exitError // what could not be seen may be worse
	}
	if code == exitDone {
		return nil
	}
	return &codedError{code, ""}
}

// The elements of JUnit XML, as the tools of pipelines read them.
type junitSuites struct {
	XMLName xml.Name     `xml:"testsuites"`
	Suites  []junitSuite `xml:"testsuite"`
}

type junitSuite struct {
	Name     string      `xml:"name,attr"`
	Tests    int         `xml:"tests,attr"`
	Failures int         `xml:"failures,attr"`
	Errors   int         `xml:"errors,attr"`
	Skipped  int         `xml:"skipped,attr,omitempty"`
	Cases    []junitCase `xml:"testcase"`
}

type junitCase struct {
	Class   string    `xml:"classname,attr"`
	Name    string    `xml:"name,attr"`
	Failure *junitBad `xml:"failure,omitempty"`
	Error   *junitBad `xml:"error,omitempty"`
	Skipped *junitBad `xml:"skipped,omitempty"`
}

type junitBad struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

// writeJUnit writes a suite for every environment, with a case for every kind
// of deviation.
func writeJUnit(path string, v *api.Verification) error {
	var all junitSuites
	before := map[string]string{} // what an environment could not be compared with
	for _, u := range v.Uncompared {
		before[u.Environment] = u.Before
	}
	for _, environment := range v.Environments {
		suite := junitSuite{Name: v.Lane + "/" + environment, Tests: len(verify.Kinds)}
		for _, kind := range verify.Kinds {
			test := junitCase{Class: suite.Name, Name: string(kind)}
			for _, d := range v.Deviations {
				if d.Environment != environment || d.Kind != kind {
					continue
				}
				if test.Failure == nil {
					test.Failure = &junitBad{Message: d.What}
					suite.Failures++
				}
				test.Failure.Text += d.What + "\n→ " + advice.Text(d.Remedies) + "\n"
			}
			if name := before[environment]; name != "" && kind == verify.History {
				test.Error = &junitBad{Message: "not compared: " + name + " was not reached"}
				suite.Errors++
			}
			suite.Cases = append(suite.Cases, test)
		}
		all.Suites = append(all.Suites, suite)
	}
	for _, empty := range v.Empty {
		suite := junitSuite{Name: v.Lane + "/" + empty.Environment, Tests: 1}
		test := junitCase{Class: suite.Name, Name: string(verify.History)}
		if why := (&junitBad{Message: empty.Message, Text: advice.Text(empty.Remedies)}); len(empty.Remedies) > 0 {
			test.Failure, suite.Failures = why, 1
		} else {
			test.Skipped, suite.Skipped = why, 1
		}
		suite.Cases = append(suite.Cases, test)
		all.Suites = append(all.Suites, suite)
	}
	for _, u := range v.Unreached {
		all.Suites = append(all.Suites, junitSuite{Name: v.Lane + "/" + u.Environment, Tests: 1, Errors: 1,
			Cases: []junitCase{
				{
					Class: v.Lane + "/" + u.Environment,
					Name:  "reached",
					Error: &junitBad{Message: u.Message, Text: advice.Text(u.Remedies)},
				},
			}})
	}
	return writeXML(path, all)
}

// placesNoun is what environments, or targets of fleets among them, are together.
func placesNoun(places []string) string {
	for _, place := range places {
		if lane.TargetOf(place) != "" {
			return "target"
		}
	}
	return "environment"
}
