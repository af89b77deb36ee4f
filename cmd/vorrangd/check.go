package main

import (
	"cmp"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"vorrang/internal/plural"
	"vorrang/internal/subprocess"
	"vorrang/records"
	"vorrang/service"
	"vorrang/service/chart"
	"vorrang/target/postgres"
)

// checkPatience bounds a check, whose every part has a limit of its own.
const checkPatience = 2 * time.Minute

// errChecked says that something is not as it should be, which was written already.
var errChecked = errors.New("the service could not do its work as it is set up")

// check writes a line for each thing that the service needs, and changes nothing. Its
// error is errChecked if one of them is not right.
func check(ctx context.Context, to io.Writer, s settings) error {
	ctx, cancel := context.WithTimeout(ctx, checkPatience)
	defer cancel()
	c := checked{to: to}
	c.access(s)
	path, err := subprocess.Find(chart.Program)
	c.line(err == nil, "layout of maps", path, fmt.Sprint(err), "install it there; until then maps are a plain grid")
	if s.keep.Audit > 0 {
		err := s.audits().Check()
		c.line(err == nil, "folder for the audit", cmp.Or(string(s.audits()), "none"), fmt.Sprint(err),
			"let the service write to -audit-files; until then nothing of the audit is let go of")
	}
	room, err := service.RoomForUploads()
	c.line(err == nil, "folder for uploads", room, fmt.Sprint(err),
		"set TMPDIR to a folder that the service may write, with room; until then not everything can be submitted")
	seen, err := records.Inspect(ctx, postgres.Engine{}, s.records)
	c.records(seen, err)
	config := service.Config{Engines: s.engines(), References: s.references}
	for _, one := range service.CheckReferences(ctx, config, seen.Lanes) {
		what := fmt.Sprintf("%s/%s, %s %s", one.Lane, one.Environment, one.Key, one.Reference)
		c.line(one.Problem == "", what, one.Found, one.Problem, one.Fix)
	}
	if c.failed > 0 {
		fmt.Fprintf(to, "%s not right; nothing was changed\n", plural.Count(c.failed, "thing is", "things are"))
		return errChecked
	}
	fmt.Fprintln(to, "everything is as it should be; nothing was changed")
	return nil
}

type checked struct {
	to     io.Writer
	failed int
}

func (c *checked) line(ok bool, what, found, problem, fix string) {
	if ok {
		fmt.Fprintf(c.to, "ok    %s: %s\n", what, found)
		return
	}
	c.failed++
	fmt.Fprintf(c.to, "FAIL  %s: %s\n", what, problem)
	if fix != "" {
		fmt.Fprintf(c.to, "      %s\n", fix)
	}
}

// access checks how people come in.
func (c *checked) access(s settings) {
	if s.certificate != "" {
		pair, err := (&certificate{names: [2]string{s.certificate, s.key}}).get(nil)
		var until time.Time
		if err == nil {
			var parsed *x509.Certificate
			if parsed, err = x509.ParseCertificate(pair.Certificate[0]); err == nil {
				until = parsed.NotAfter
			}
		}
		if err != nil {
			c.line(false, "TLS certificate "+s.certificate, "", err.Error(), "")
		} else {
			c.line(time.Now().Before(until), "TLS certificate "+s.certificate, "valid until "+until.UTC().Format(time.DateOnly),
				"it was valid until "+until.UTC().Format(time.DateOnly), "renew it; the service reads it again when it changes")
		}
	}
	token := os.Getenv("VORRANG_ADMIN_TOKEN")
	const least = 16
	c.line(token == "" || len(token) >= least, "administrator's token",
		map[bool]string{true: "not set", false: "set"}[token == ""],
		"it is shorter than 16 characters", "set VORRANG_ADMIN_TOKEN, for example to the output of: openssl rand -hex 24")
}

func (c *checked) records(seen records.Inspected, err error) {
	found := fmt.Sprintf("PostgreSQL %s, up to date", seen.Version)
	switch {
	case seen.Applied == 0:
		found = fmt.Sprintf("PostgreSQL %s, empty: the first start makes the tables", seen.Version)
	case seen.Waiting > 0:
		found = fmt.Sprintf("PostgreSQL %s; a start brings them up by %s", seen.Version, plural.Of(seen.Waiting, "step"))
	}
	switch n := len(seen.Lives); {
	case n > 0:
		found += "; " + plural.Count(n, "vorrangd works", "vorrangds work") + " on them now"
	case seen.Held != "":
		found += "; a vorrangd holds them now: " + seen.Held
	}
	problem := seen.Refused
	if err != nil {
		problem = err.Error()
	}
	c.line(problem == "", "records", found, problem, "")
}
