package mariadb

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"vorrang/core/engine"
)

const scratchPrefix = "vorrang_scratch_"

// scratch is an empty database for trials.
type scratch struct {
	*Session
	beside *Session
	role   string
	name   string
}

// NewScratch implements engine.Workshop. The URL's user needs the right to create and
// drop databases whose names begin with vorrang_scratch_. Where it may change other
// databases than the URL's too, the error is *engine.OwnsMore, unless the lane declares
// that it may.
func (Engine) NewScratch(ctx context.Context, url, role string, declared bool) (engine.Scratch, error) {
	beside, err := connect(ctx, url, "vorrangd scratch", "")
	if err != nil {
		return nil, err
	}
	made, err := beside.scratch(ctx, url, role, declared)
	if err != nil {
		beside.Close()
		return nil, err
	}
	return made, nil
}

func (s *Session) scratch(ctx context.Context, url, role string, declared bool) (*scratch, error) {
	if !declared {
		if err := s.ownsMore(ctx); err != nil {
			return nil, err
		}
	}
	if err := s.sweep(ctx); err != nil {
		return nil, err
	}
	name := engine.ScratchName(scratchPrefix, time.Now())
	if err := s.own.exec(ctx,
		"CREATE DATABASE "+quoted(name)+" CHARACTER SET utf8mb4 COMMENT "+literal(engine.ScratchMark)); err != nil {
		return nil, fmt.Errorf(
			"make a scratch database (the URL's user needs the right to create them: GRANT ALL ON `vorrang\\_scratch\\_%%`.* "+
				"TO %s): %w",
			s.config.User, err,
		)
	}
	inside, err := connect(ctx, url, "vorrangd scratch", name)
	if err != nil {
		return nil, errors.Join(err, s.own.exec(ctx, "DROP DATABASE "+quoted(name)))
	}
	return &scratch{Session: inside, beside: s, role: role, name: name}, nil
}

// harmless are grants, also on all databases, by which nothing is changed.
var harmless = []string{"GRANT USAGE", "GRANT SELECT", "GRANT PROCESS", "GRANT SELECT, PROCESS"}

// ownsMore looks for what the session's user could change from another database.
func (s *Session) ownsMore(ctx context.Context) error {
	return s.own.each(ctx, "SHOW GRANTS", nil, func(row []string) error {
		rights, rest, is := strings.Cut(row[0], " ON ")
		on, _, _ := strings.Cut(rest, " TO ")
		database := strings.ReplaceAll(strings.Trim(strings.TrimSuffix(on, ".*"), "`"), `\`, "")
		switch {
		case !is || slices.Contains(harmless, rights) || database == s.config.DBName ||
			strings.HasPrefix(database, scratchPrefix):
			return nil
		case on == "*.*":
			return &engine.OwnsMore{User: s.config.User, What: "has rights on all databases there"}
		}
		return &engine.OwnsMore{User: s.config.User, What: "has rights on other databases there: " + database}
	})
}

// sweep drops the scratch databases that were left behind long ago.
func (s *Session) sweep(ctx context.Context) error {
	var old []string
	err := s.own.each(
		ctx,
		`SELECT SCHEMA_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME LIKE 'vorrang\\_scratch\\_%'
			AND SCHEMA_NAME NOT IN (SELECT DB FROM information_schema.PROCESSLIST WHERE DB IS NOT NULL)`,
		nil,
		func(row []string) error {
			if engine.ScratchLeft(scratchPrefix, row[0], time.Now()) {
				old = append(old, row[0])
			}
			return nil
		},
	)
	if err != nil {
		return fmt.Errorf("look for old scratch databases: %w", err)
	}
	for _, name := range old {
		_ = s.own.exec(ctx, "DROP DATABASE IF EXISTS "+quoted(name)) // another session may be connected
	}
	return nil
}

// Run implements engine.Scratch. The server commits after each change of a schema.
func (s *scratch) Run(ctx context.Context, text []byte, _ bool) error {
	statements, err := cut(text)
	if err != nil {
		return err
	}
	return engine.RunScript(ctx, s, engine.Settings{Role: s.role}, statements, true)
}

// Name implements engine.Scratch.
func (s *scratch) Name() string { return s.name }

// DropScratch implements engine.Workshop.
func (Engine) DropScratch(ctx context.Context, url, name string) error {
	if _, is := engine.ScratchMade(scratchPrefix, name); !is {
		return fmt.Errorf("%s is not a scratch database", name)
	}
	beside, err := connect(ctx, url, "vorrangd scratch", "")
	if err != nil {
		return err
	}
	defer beside.Close()
	return beside.own.exec(ctx, "DROP DATABASE IF EXISTS "+quoted(name))
}

// Close implements engine.Session, and drops the database.
func (s *scratch) Close() {
	s.Session.Close()
	ctx, cancel := context.WithTimeout(context.Background(), 10*cancelGrace)
	defer cancel()
	_ = s.beside.own.exec(ctx, "DROP DATABASE IF EXISTS "+quoted(s.name)) // the next sweep finds what stays
	s.beside.Close()
}
