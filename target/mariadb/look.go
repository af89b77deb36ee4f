package mariadb

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"vorrang/core/engine"
)

// Identity implements engine.Session.
func (s *Session) Identity(ctx context.Context) (identity string, err error) {
	err = s.own.each(
		ctx,
		"SELECT CONCAT_WS(' ', @@hostname, @@port, @@datadir, DATABASE())",
		nil,
		func(row []string) error {
			identity = row[0]
			return nil
		},
	)
	return identity, err
}

// HasTables implements engine.Session. A schema is a database here.
func (s *Session) HasTables(ctx context.Context, tables ...string) (bool, error) {
	for _, table := range tables {
		schema, name, _ := strings.Cut(table, ".")
		n, err := s.own.number(
			ctx,
			"SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? AND TABLE_SCHEMA = "+
				"DATABASE()",
			schema, name,
		)
		if err != nil || n == 0 {
			return false, err
		}
	}
	return true, nil
}

// Schemas implements engine.Session: there are none in a database.
func (s *Session) Schemas([]string) {}

// Existing implements engine.Session.
func (s *Session) Existing(ctx context.Context, _ []string) (engine.Existing, error) {
	tables, err := s.own.number(
		ctx,
		"SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_TYPE IN ('BASE TABLE', "+
			"'SYSTEM VERSIONED') AND TABLE_NAME <> ?",
		ledgerTable,
	)
	if err != nil {
		return engine.Existing{}, fmt.Errorf("count the target's objects: %w", err)
	}
	others, err := s.own.number(
		ctx,
		`SELECT (SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE()
			AND TABLE_TYPE IN ('VIEW', 'SEQUENCE'))
		+ (SELECT COUNT(*) FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = DATABASE()) + (SELECT COUNT(*)
			FROM information_schema.EVENTS WHERE EVENT_SCHEMA = DATABASE())`,
	)
	return engine.Existing{Tables: int(tables), Others: int(others)}, err
}

// Empty implements engine.Steps. The server commits after each of these.
func (s *Session) Empty(ctx context.Context) (int, error) {
	var drops []string
	drop := func(query, kind string) error {
		return s.steps.each(ctx, query, nil, func(row []string) error {
			drops = append(drops, "DROP "+kind+" IF EXISTS "+quoted(row[0]))
			return nil
		})
	}
	for _, one := range []struct{ kind, query string }{
		{"VIEW", "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_TYPE = 'VIEW'"},
		{"TABLE", "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_TYPE IN " +
			"('BASE TABLE', 'SYSTEM VERSIONED') AND TABLE_NAME <> '" + ledgerTable + "'"},
		{"SEQUENCE", "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_TYPE = " +
			"'SEQUENCE'"},
		{"PROCEDURE", "SELECT ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = DATABASE() AND " +
			"ROUTINE_TYPE = 'PROCEDURE'"},
		{"FUNCTION", "SELECT ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = DATABASE() AND " +
			"ROUTINE_TYPE = 'FUNCTION'"},
		{"EVENT", "SELECT EVENT_NAME FROM information_schema.EVENTS WHERE EVENT_SCHEMA = DATABASE()"},
	} {
		if err := drop(one.query, one.kind); err != nil {
			return 0, fmt.Errorf("list what is to be dropped: %w", err)
		}
	}
	if err := s.entered(ctx); err != nil {
		return 0, err
	}
	all := slices.Concat(
		[]string{"SET SESSION foreign_key_checks = 0"}, drops, []string{"SET SESSION foreign_key_checks = 1"},
	)
	s.clean, s.sure = false, false
	return len(drops), s.steps.exec(ctx, all...)
}

// Probe implements engine.Session.
func (s *Session) Probe(ctx context.Context, role string) (engine.Probe, error) {
	p := engine.Probe{Database: s.config.DBName}
	var cipher, readOnly, trust, binlog string
	err := s.own.each(
		ctx,
		`SELECT VERSION(), CURRENT_USER(), (SELECT VARIABLE_VALUE FROM information_schema.SESSION_STATUS
			WHERE VARIABLE_NAME = 'Ssl_cipher'),
		@@read_only, @@log_bin_trust_function_creators, @@log_bin, (SELECT COUNT(*) FROM information_schema.TABLES
			WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ?)`,
		[]any{ledgerTable},
		func(row []string) error {
			p.Version, p.User, cipher, readOnly, trust, binlog, p.HasLedger = row[0], row[1], row[2], row[3], row[4], row[5],
				row[6] != "0"
			return nil
		},
	)
	if err != nil {
		return p, fmt.Errorf("read the target: %w", err)
	}
	grants := ""
	err = s.own.each(ctx, "SHOW GRANTS", nil, func(row []string) error {
		grants += row[0] + "\n"
		return nil
	})
	if err != nil {
		return p, err
	}
	may := func(right string) bool { // on the database, or on all
		for line := range strings.Lines(grants) {
			rights, on, _ := strings.Cut(line, " ON ")
			there := strings.HasPrefix(on, "*.*") || strings.HasPrefix(on, "`"+s.config.DBName+"`.*") ||
				strings.HasPrefix(on, "`"+strings.ReplaceAll(s.config.DBName, "_", `\_`)+"`.*")
			if there &&
				(strings.Contains(rights, "ALL PRIVILEGES") ||
					slices.Contains(strings.Split(strings.TrimPrefix(rights, "GRANT "), ", "), right)) {
				return true
			}
		}
		return false
	}
	p.Look("connection", true, fmt.Sprintf("user %s reaches database %s", p.User, p.Database), "")
	encryption := "not encrypted: fine on the same machine, not across a network"
	if cipher != "" {
		encryption = cipher
	}
	p.Look("encryption", true, encryption, "")
	message := "the server accepts writes"
	if readOnly == "1" {
		message = "the server accepts no writes"
	}
	p.Look("writable", readOnly == "0", message, "name the primary server in the URL, not a replica")
	missing := slices.DeleteFunc([]string{"CREATE", "INSERT", "SELECT", "TRIGGER"}, may)
	message = "is not there yet, and may be created"
	if p.HasLedger {
		message = "is there, and may be written"
	}
	if len(missing) > 0 {
		message = "user " + p.User + " has no right to " + strings.Join(missing, ", ") + " on the database"
	}
	p.Look(
		"ledger", len(missing) == 0, message,
		fmt.Sprintf("GRANT %s ON %s.* TO %s", strings.Join(missing, ", "), quoted(p.Database), p.User),
	)
	if binlog == "1" && trust == "0" && !may("SUPER") && !p.HasLedger {
		p.Look(
			"triggers", false,
			"the server keeps a binary log, and lets nobody without SUPER make triggers",
			"SET GLOBAL log_bin_trust_function_creators = 1",
		)
	}
	if role != "" {
		failed := s.own.exec(ctx, "SET ROLE "+quoted(role))
		message := p.User + " may become " + role
		if failed != nil {
			message = "there is no role " + role + " that " + p.User + " may become"
		}
		p.Look("role", failed == nil, message, fmt.Sprintf("GRANT %s TO %s", quoted(role), p.User))
		if err := s.own.exec(ctx, "SET ROLE NONE"); err != nil {
			return p, err
		}
	}
	return p, nil
}

// Blockers implements engine.Watcher. Who holds a metadata lock is told by the plugin
// metadata_lock_info only; without it, those that have a transaction open are named
// while a statement waits for one.
func (s *Session) Blockers(ctx context.Context) (blockers []engine.Blocker, err error) {
	steps := s.steps
	if steps == nil {
		return nil, nil
	}
	state := ""
	err = s.own.each(
		ctx,
		"SELECT COALESCE(STATE, '') FROM information_schema.PROCESSLIST WHERE ID = ?",
		[]any{steps.id},
		func(row []string) error {
			state = row[0]
			return nil
		},
	)
	if err != nil {
		return nil, err
	}
	holders := `SELECT w.blocking_trx_id FROM information_schema.INNODB_LOCK_WAITS w WHERE FALSE`
	switch {
	case strings.Contains(state, "metadata lock"):
		n, err := s.own.number(
			ctx,
			"SELECT COUNT(*) FROM information_schema.PLUGINS WHERE PLUGIN_NAME = 'METADATA_LOCK_INFO' AND PLUGIN_STATUS "+
				"= 'ACTIVE'",
		)
		if err != nil {
			return nil, err
		}
		holders = "SELECT trx_mysql_thread_id FROM information_schema.INNODB_TRX"
		if n > 0 {
			holders = "SELECT THREAD_ID FROM information_schema.METADATA_LOCK_INFO WHERE TABLE_SCHEMA = DATABASE() AND " +
				"TABLE_NAME <> ''"
		}
	default:
		holders = `SELECT b.trx_mysql_thread_id FROM information_schema.INNODB_LOCK_WAITS w
			JOIN information_schema.INNODB_TRX b ON b.trx_id = w.blocking_trx_id
			JOIN information_schema.INNODB_TRX r ON r.trx_id = w.requesting_trx_id WHERE r.trx_mysql_thread_id = ` + fmt.Sprint(
			steps.id,
		)
	}
	err = s.own.each(
		ctx,
		`SELECT DISTINCT p.ID, p.USER, p.COMMAND, COALESCE(LEFT(p.INFO, 300), '') FROM information_schema.PROCESSLIST p
		WHERE p.ID IN (`+holders+`) AND p.ID NOT IN (?, ?) ORDER BY p.ID`,
		[]any{s.own.id, steps.id},
		func(row []string) error {
			b := engine.Blocker{User: row[1], State: strings.ToLower(row[2]), Query: row[3]}
			_, _ = fmt.Sscan(row[0], &b.PID)
			blockers = append(blockers, b)
			return nil
		},
	)
	return blockers, err
}

// Clean implements engine.Rester.
func (s *Session) Clean() bool { return s.steps == nil && !s.own.lost }

// MayStay implements engine.Rester. Nobody waits for idle sessions to leave a database, which
// may be dropped meanwhile: then nothing is there.
func (s *Session) MayStay(ctx context.Context) bool {
	same, err := s.own.number(ctx, "SELECT COALESCE(DATABASE() = ?, 0)", s.config.DBName)
	return err == nil && same == 1
}
