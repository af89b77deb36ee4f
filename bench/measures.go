package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"vorrang/target/postgres"

	"vorrang/core/ledger"
	"vorrang/core/step"
)

func noPreparation() error { return nil }

// smallSteps: 1,000 small steps, a transaction and a ledger row each.
func (b *bench) smallSteps(ctx context.Context) error {
	const n = 1000
	files := map[string]string{}
	var script strings.Builder
	script.WriteString(
		"CREATE SCHEMA vorrang; CREATE TABLE vorrang.ledger (seq bigint PRIMARY KEY, at timestamptz, action text, step " +
			"text, slug text, " +
			"checksum text, deployment text, actor text, duration_ms bigint, detail json, prev_hash text, hash text UNIQUE);\n",
	)
	head := ledger.NewHead()
	for i := 1; i <= n; i++ {
		sql := fmt.Sprintf("CREATE TABLE berth_%d (id bigint PRIMARY KEY, name text NOT NULL, built date);", i)
		files[fmt.Sprintf("%04d-create-berth.sql", i)] = sql
		file, _ := step.ReadFile("1-a.sql", []byte(sql))
		e := head.Next(
			ledger.Entry{
				Action:     ledger.Applied,
				Step:       step.Number(fmt.Sprint(i)),
				Slug:       "create-berth",
				Checksum:   file.Checksum,
				Deployment: "1",
				Actor:      "bench",
				DurationMS: 1,
			},
			time.Now(),
		)
		head = e.Head()
		fmt.Fprintf(
			&script,
			"BEGIN;\n%s\nINSERT INTO vorrang.ledger VALUES (%d, '%s', 'applied', '%d', 'create-berth', '%s', '1', 'bench', "+
				"1, '{}', '%s', '%s');\nCOMMIT;\n",
			sql, e.Seq, e.At.Format(ledger.AtLayout), i, e.Checksum, e.PrevHash, e.Hash,
		)
	}
	if err := b.lane(ctx, "small", files); err != nil {
		return err
	}
	path := filepath.Join(b.folder, "small.sql")
	if err := os.WriteFile(path, []byte(script.String()), 0o644); err != nil {
		return err
	}
	// The records must forget the ledger that goes with the database.
	prepare := func() error {
		if err := b.fresh(ctx, "small"); err != nil {
			return err
		}
		return b.exec(ctx, "records", "DELETE FROM records.head WHERE lane = 'small'")
	}
	ours, theirs, err := compare(prepare,
		func() error { return b.promote("small") },
		func() error { return b.psql("small", path) })
	b.add(
		"1,000 small steps, a transaction and a ledger row each",
		"psql running the same statements and inserts from one file",
		ours, theirs, 0.90,
	)
	return err
}

// smallMariaDB: the same on MariaDB, which commits after each: a begun row, a table, an
// applied row.
func (b *bench) smallMariaDB(ctx context.Context) error {
	const n = 1000
	files := map[string]string{}
	var script strings.Builder
	script.WriteString(
		"CREATE TABLE vorrang_ledger (seq BIGINT PRIMARY KEY, at DATETIME(6), action VARCHAR(40), step VARCHAR(255), slug " +
			"VARCHAR(255), checksum VARCHAR(80), " +
			"deployment VARCHAR(255), actor TEXT, duration_ms BIGINT, detail LONGTEXT, prev_hash CHAR(64), hash CHAR(64) " +
			"UNIQUE);\n",
	)
	head := ledger.NewHead()
	for i := 1; i <= n; i++ {
		sql := fmt.Sprintf("CREATE TABLE duty_%d (id BIGINT PRIMARY KEY, pilot VARCHAR(80) NOT NULL, day DATE);", i)
		files[fmt.Sprintf("%04d-create-duty.sql", i)] = sql
		file, _ := step.ReadFile("1-a.sql", []byte(sql))
		for _, action := range []ledger.Action{ledger.Begun, ledger.Applied} {
			e := head.Next(
				ledger.Entry{
					Action:     action,
					Step:       step.Number(fmt.Sprint(i)),
					Slug:       "create-duty",
					Checksum:   file.Checksum,
					Deployment: "1",
					Actor:      "bench",
					DurationMS: 1,
				},
				time.Now(),
			)
			head = e.Head()
			if action == ledger.Applied {
				script.WriteString(sql + "\n")
			}
			fmt.Fprintf(
				&script,
				"INSERT INTO vorrang_ledger VALUES (%d, '%s', '%s', '%d', 'create-duty', '%s', '1', 'bench', 1, '{}', "+
					"'%s', '%s');\n",
				e.Seq,
				e.At.Format("2006-01-02 15:04:05.000000"),
				action, i, e.Checksum, e.PrevHash, e.Hash,
			)
		}
	}
	prepare := func() error {
		if err := b.mariadb("mysql", "DROP DATABASE IF EXISTS roster; CREATE DATABASE roster;"); err != nil {
			return err
		}
		return b.exec(ctx, "records", "DELETE FROM records.head WHERE lane = 'roster'")
	}
	if err := prepare(); err != nil {
		return err
	}
	if err := b.laneOn(ctx, "mariadb", "roster", files); err != nil {
		return err
	}
	ours, theirs, err := compare(prepare,
		func() error { return b.promote("roster") },
		func() error { return b.mariadb("roster", script.String()) })
	b.add(
		"1,000 small steps on MariaDB, a begun row and an applied row each",
		"the mariadb client running the same statements and inserts",
		ours, theirs, 1.20,
	)
	return err
}

// nothingToDo: a promotion that finds 5,000 steps applied.
func (b *bench) nothingToDo(ctx context.Context) error {
	const n = 5000
	files := map[string]string{}
	for i := 1; i <= n; i++ {
		files[fmt.Sprintf("%04d-note.sql", i)] = fmt.Sprintf("SELECT %d;", i)
	}
	if err := b.fresh(ctx, "many"); err != nil {
		return err
	}
	if err := b.lane(ctx, "many", files); err != nil {
		return err
	}
	if err := b.promote("many"); err != nil {
		return err
	}
	ours, theirs, err := compare(noPreparation,
		func() error { return b.promote("many") },
		func() error {
			return exec.Command(psql, "-X", "-q", "-o", "/dev/null", b.url("many"), "-c", "SELECT * FROM vorrang.ledger "+
				"ORDER BY seq").
				Run()
		})
	b.add("nothing to do, 5,000 steps applied", "psql reading the ledger's rows", ours, theirs, 0.80)
	b.lines = append(
		b.lines,
		line{
			work:   "the same, through the client",
			aim:    "under 75 ms",
			figure: fmt.Sprintf("%d ms", ours.Milliseconds()),
			met:    ours < 75*time.Millisecond,
			over:   ours.Seconds()/0.075 - 1,
		},
	)
	return err
}

// copyData: one 50 MB step of COPY data.
func (b *bench) copyData(ctx context.Context) error {
	const size = 50_000_000
	var text strings.Builder
	text.WriteString(
		"CREATE TABLE reading (gauge text, at timestamptz, level_m numeric, remark text);\nCOPY reading FROM stdin;\n",
	)
	for i := 0; text.Len() < size; i++ {
		fmt.Fprintf(
			&text,
			"NM%d\t2026-01-01 %02d:%02d:00+00\t%d.%03d\tread by the keeper of gauge %d, in his book on page %d\n",
			i%7, i/60%24, i%60, i%9, i%1000, i%7, i,
		)
	}
	text.WriteString("\\.\n")
	if err := b.lane(ctx, "copy", map[string]string{"1-load-readings.sql": text.String()}); err != nil {
		return err
	}
	prepare := func() error {
		if err := b.fresh(ctx, "copy"); err != nil {
			return err
		}
		return b.exec(ctx, "records", "DELETE FROM records.head WHERE lane = 'copy'")
	}
	path := filepath.Join(b.folder, "copy", "1-load-readings.sql")
	ours, theirs, err := compare(prepare,
		func() error { return b.promote("copy") },
		func() error { return b.psql("copy", path) })
	b.add("one 50 MB step of COPY data", "psql running the same file", ours, theirs, 1.10)
	return err
}

// snapshot: the schema of 2,000 tables.
func (b *bench) snapshot(ctx context.Context) error {
	const tables = 2000
	if err := b.fresh(ctx, "wide"); err != nil {
		return err
	}
	var text strings.Builder
	for i := range tables {
		if i%100 == 0 { // a transaction has so many locks
			if err := b.exec(ctx, "wide", text.String()); err != nil {
				return err
			}
			text.Reset()
		}
		fmt.Fprintf(
			&text,
			"CREATE TABLE gauge_%d (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, berth int NOT NULL DEFAULT %d, "+
				"level_m numeric(6,3) CHECK (level_m < 20), remark text); CREATE INDEX ON gauge_%d (berth);\n",
			i, i, i,
		)
	}
	if err := b.exec(ctx, "wide", text.String()); err != nil {
		return err
	}
	ours, theirs, err := compare(noPreparation,
		func() error {
			session, err := postgres.Connect(ctx, b.url("wide"), "bench")
			if err != nil {
				return err
			}
			defer session.Close()
			seen, err := session.Snapshot(ctx, nil)
			if err == nil && len(seen.Objects) < tables*5 {
				err = fmt.Errorf("%d objects were seen", len(seen.Objects))
			}
			_ = seen.Fingerprint()
			return err
		},
		func() error {
			return exec.Command(filepath.Join(filepath.Dir(psql), "pg_dump"), "--schema-only", "-f", "/dev/null", b.url("wide")).
				Run()
		})
	b.add("snapshot of a schema with 2,000 tables, with its fingerprint", "`pg_dump --schema-only`", ours, theirs, 0.25)
	return err
}

func (b *bench) add(work, against string, ours, theirs time.Duration, most float64) {
	ratio := float64(ours) / float64(max(theirs, 1))
	b.lines = append(b.lines, line{work: work, against: against, ours: ours, theirs: theirs,
		aim: fmt.Sprintf("at most %.2f times", most), figure: fmt.Sprintf("%.2f times", ratio), met: ratio <= most,
		over: ratio/most - 1})
	fmt.Printf(
		"%s: %.2f times (%s against %s)\n",
		work, ratio, ours.Round(time.Millisecond), theirs.Round(time.Millisecond),
	)
}

func (b *bench) write(ctx context.Context) error {
	conn, err := pgx.Connect(ctx, b.url("postgres"))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	var server string
	if err := conn.QueryRow(ctx, "SHOW server_version").Scan(&server); err != nil {
		return err
	}
	var text strings.Builder
	fmt.Fprintf(
		&text,
		"Measured by `make bench` on %s: PostgreSQL %s with fsync on, %s, %d cores. Each ratio is of the "+
			"best of %d runs\n"+
			"of each side, in turns, on the same server; Vorrang's side is the whole `vorrang promote`, client and service "+
			"included.\n\n"+
			"| work | against | measured | aim | |\n|---|---|---|---|---|\n",
		time.Now().UTC().Format(time.DateOnly), server, runtime.Version(), runtime.NumCPU(), rounds,
	)
	for _, l := range b.lines {
		times := ""
		if l.theirs > 0 {
			times = fmt.Sprintf(" (%s against %s)", l.ours.Round(time.Millisecond), l.theirs.Round(time.Millisecond))
		}
		fmt.Fprintf(
			&text,
			"| %s | %s | **%s**%s | %s | %s |\n",
			l.work, l.against, l.figure, times, l.aim,
			l.verdict(),
		)
	}
	fmt.Print(text.String())
	if *only != "" {
		return nil
	}
	return benchPart.write(text.String())
}

// verdict says whether the aim is met, where there is one, and by how much it is missed.
func (l line) verdict() string {
	switch {
	case l.aim == "":
		return ""
	case l.met:
		return "met"
	case l.over > 0:
		return fmt.Sprintf("missed by %.0f %%", 100*l.over)
	}
	return "missed"
}
