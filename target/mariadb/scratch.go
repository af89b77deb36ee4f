package mariadb

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"vorrang/core/engine"
)

const scratchPrefix = "vorrang_scratch_"

// scratch is an empty database for trials. What runs in it runs as a user who has no right
// outside of scratch databases.
type scratch struct {
	*Session
	beside *Session
	name   string
}

// NewScratch implements engine.Workshop. Bodies of triggers, routines and events can name any
// database, and put such names together while they run, so the user that a trial runs as must
// have no right outside of scratch databases. That is the URL's user, who then needs the right to
// create databases whose names begin with vorrang_scratch_, or a user that is made for this one
// database, where the URL's user may make users. Otherwise the error is *engine.OwnsMore, also
// where the lane declares that the user may. The role that steps run as is not taken on.
func (Engine) NewScratch(ctx context.Context, url, _ string, _ bool) (engine.Scratch, error) {
	beside, err := connect(ctx, url, "vorrangd scratch", "")
	if err != nil {
		return nil, err
	}
	made, err := beside.scratch(ctx)
	if err != nil {
		beside.Close()
		return nil, err
	}
	return made, nil
}

func (s *Session) scratch(ctx context.Context) (made *scratch, err error) {
	if err := s.sweep(ctx); err != nil {
		return nil, err
	}
	reaches, err := s.reaches(ctx)
	if err != nil {
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
	defer func() {
		if err != nil {
			_ = s.dropScratch(context.WithoutCancel(ctx), name) // the next sweep finds what stays
		}
	}()
	config := s.config.Clone()
	config.DBName = name
	if reaches != "" {
		if config.User, config.Passwd, err = s.newcomer(ctx, name); err != nil {
			return nil, s.ownsMore(reaches, err)
		}
	}
	inside, err := open(ctx, config, "vorrangd scratch")
	if err != nil {
		return nil, err
	}
	inside.confined = true
	if err := s.confine(ctx, inside); err != nil {
		inside.Close()
		return nil, err
	}
	return &scratch{Session: inside, beside: s, name: name}, nil
}

// harmless are rights on all databases by which nothing is read or changed.
var harmless = []string{"USAGE", "PROCESS", "SHOW DATABASES", "BINLOG MONITOR", "SLAVE MONITOR", "REPLICATION CLIENT"}

// reaches is a right outside of scratch databases that the session's user has, or may get
// by a role; empty for none.
func (s *Session) reaches(ctx context.Context) (reaches string, err error) {
	err = s.own.each(ctx, "SHOW GRANTS", nil, func(row []string) error {
		granted, rest, is := strings.Cut(row[0], " ON ")
		if !is {
			if role, granted := strings.CutPrefix(row[0], "GRANT "); granted {
				role, _, _ = strings.Cut(role, " TO ")
				reaches = "may take on the role " + role
			}
			return nil
		}
		on, _, _ := strings.Cut(rest, " TO ")
		database := strings.ReplaceAll(strings.Trim(strings.TrimSuffix(on, ".*"), "`"), `\`, "")
		rights := strings.Split(strings.TrimPrefix(granted, "GRANT "), ", ")
		switch {
		case strings.HasPrefix(database, scratchPrefix):
		case on == "*.*":
			rights = slices.DeleteFunc(rights, func(right string) bool { return slices.Contains(harmless, right) })
			if len(rights) > 0 {
				reaches = "has rights on all databases there: " + strings.Join(rights[:min(len(rights), 3)], ", ")
			}
		default:
			reaches = "has rights outside of scratch databases: on " + on
		}
		return nil
	})
	return reaches, err
}

func (s *Session) ownsMore(reaches string, err error) error {
	what := reaches
	var refused *engine.ServerError
	if errors.As(err, &refused) {
		what += ", and may not make a user who has none (" + refused.Message + ")"
	} else if err != nil {
		return err
	}
	return &engine.OwnsMore{
		User: s.config.User, What: what,
		Fix: "CREATE USER vorrang_trials IDENTIFIED BY '…'; GRANT ALL ON `vorrang\\_scratch\\_%`.* TO vorrang_trials; " +
			"its URL may end in /information_schema, which every user may open",
	}
}

// newcomer makes a user who has all rights on one scratch database, and no others.
func (s *Session) newcomer(ctx context.Context, database string) (user, password string, err error) {
	account, err := s.newcomerAccount(ctx, database)
	if err != nil {
		return "", "", err
	}
	user, password = database, rand.Text()+"-aZ7"
	return user, password, s.own.exec(ctx,
		"CREATE USER "+account+" IDENTIFIED BY "+literal(password),
		"GRANT ALL ON "+strings.ReplaceAll(quoted(database), "_", `\_`)+".* TO "+account,
	)
}

// newcomerAccount is the account of a scratch database's user: it comes from where the
// session's user does.
func (s *Session) newcomerAccount(ctx context.Context, database string) (account string, err error) {
	err = s.own.each(ctx, "SELECT CURRENT_USER()", nil, func(row []string) error {
		account = literal(database) + "@" + literal(row[0][strings.LastIndex(row[0], "@")+1:])
		return nil
	})
	return account, err
}

// confine makes sure that nothing outside of scratch databases can be written to from inside: by
// the grants, and by trying. What is tried changes no row where it is let through.
func (s *Session) confine(ctx context.Context, inside *Session) error {
	reaches, err := inside.reaches(ctx)
	if err != nil {
		return err
	}
	others := []string{"mysql", s.config.DBName}
	for _, session := range []*Session{s, inside} {
		err := session.own.each(ctx, "SELECT SCHEMA_NAME FROM information_schema.SCHEMATA", nil, func(row []string) error {
			others = append(others, row[0])
			return nil
		})
		if err != nil {
			return err
		}
	}
	slices.Sort(others)
	for _, other := range slices.Compact(others) {
		if reaches != "" {
			break
		}
		if strings.HasPrefix(other, scratchPrefix) || other == "information_schema" || other == "performance_schema" {
			continue
		}
		err := inside.own.exec(ctx, "DELETE FROM "+quoted(other)+"."+ledgerTable+" WHERE FALSE")
		var refused *engine.ServerError
		switch {
		case errors.As(err, &refused) && slices.Contains(notAllowed, refused.SQLState):
		case err == nil, errors.As(err, &refused):
			reaches = "may write to " + other
		default:
			return err
		}
	}
	if reaches != "" {
		return inside.ownsMore(reaches, nil)
	}
	return nil
}

// notAllowed are the server's numbers of a right that is missing: on a database, a table, a
// column, a routine, and one for the whole server.
var notAllowed = []string{"1044", "1142", "1143", "1370", "1227"}

// outside is the hint for a statement that a scratch database's user may not run.
const outside = "in a trial, statements and bodies reach the scratch database only: one that names its database, or " +
	"that runs as another user, cannot be tried there"

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
		_ = s.dropScratch(ctx, name) // what stays, the next sweep finds
	}
	return nil
}

// dropScratch drops a scratch database, and its user where one was made for it.
func (s *Session) dropScratch(ctx context.Context, name string) error {
	if account, err := s.newcomerAccount(ctx, name); err == nil {
		_ = s.own.exec(ctx, "DROP USER IF EXISTS "+account) // who may not drop users made none
	}
	return s.own.exec(ctx, "DROP DATABASE IF EXISTS "+quoted(name))
}

// Run implements engine.Scratch. The server commits after each change of a schema.
func (s *scratch) Run(ctx context.Context, text []byte, _ bool) error {
	statements, err := cut(text)
	if err != nil {
		return err
	}
	return engine.RunScript(ctx, s, engine.Settings{}, statements, true)
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
	return beside.dropScratch(ctx, name)
}

// Close implements engine.Session, and drops the database.
func (s *scratch) Close() {
	s.Session.Close()
	ctx, cancel := context.WithTimeout(context.Background(), 10*cancelGrace)
	defer cancel()
	_ = s.beside.dropScratch(ctx, s.name) // the next sweep finds what stays
	s.beside.Close()
}
