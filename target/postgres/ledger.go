package postgres

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/core/sqltext"
)

//go:embed ledger.sql
var createLedger string

const readLedger = `SELECT seq, at, action, step, slug, checksum, deployment, actor, duration_ms, detail::text,
	prev_hash, hash
FROM vorrang.ledger WHERE seq >= $1 ORDER BY seq`

// ReadLedger returns all entries, oldest first. exists is false for a target
// that has no ledger.
func (s *Session) ReadLedger(ctx context.Context) (entries []ledger.Entry, exists bool, err error) {
	return s.ReadLedgerFrom(ctx, 0)
}

// ReadLedgerFrom implements engine.Ledger.
func (s *Session) ReadLedgerFrom(
	ctx context.Context, seq int64,
) (entries []ledger.Entry, exists bool, err error) {
	rows, err := s.conn.Query(ctx, readLedger, pgx.QueryResultFormats{pgx.BinaryFormatCode}, seq)
	if err == nil {
		entries, err = pgx.AppendRows(make([]ledger.Entry, 0, 256), rows, scanEntry)
	}
	var refused *pgconn.PgError
	if errors.As(err, &refused) && (refused.Code == "42P01" || refused.Code == "3F000") {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, fmt.Errorf("read the ledger: %w", s.wrap(err))
	}
	return entries, true, nil
}

// altered finds what of the ledger's table is not as it was made. Whoever may alter
// it could write entries, or change them, without a word.
const altered = `SELECT pg_catalog.concat_ws('; ',
	CASE WHEN c.relkind <> 'r' OR c.relispartition OR EXISTS (SELECT FROM pg_catalog.pg_inherits i
		WHERE c.oid IN (i.inhparent, i.inhrelid))
		THEN 'it is no ordinary table any more' END,
	CASE WHEN c.relrowsecurity OR c.relforcerowsecurity THEN 'it has row security' END,
	(SELECT 'it has the rule ' || pg_catalog.string_agg(r.rulename, ', ' ORDER BY r.rulename) FROM pg_catalog.pg_rewrite r
		WHERE r.ev_class = c.oid),
	(SELECT 'it has the trigger ' || pg_catalog.string_agg(t.tgname, ', ' ORDER BY t.tgname) FROM pg_catalog.pg_trigger t
		WHERE t.tgrelid = c.oid AND NOT t.tgisinternal AND t.tgname <> 'append_only'),
	CASE WHEN NOT EXISTS (SELECT FROM pg_catalog.pg_trigger t JOIN pg_catalog.pg_proc p ON p.oid = t.tgfoid
		WHERE t.tgrelid = c.oid AND t.tgname = 'append_only' AND t.tgenabled IN ('O', 'A') AND t.tgtype = 58
			AND t.tgqual IS NULL AND p.prosrc = $1)
		THEN 'its trigger append_only is gone, disabled or another' END,
	(SELECT pg_catalog.string_agg(DISTINCT CASE a.grantee WHEN 0 THEN 'everybody'
		ELSE pg_catalog.pg_get_userbyid(a.grantee)::text END, ', ') || ' may write to it'
		FROM pg_catalog.aclexplode(c.relacl) a WHERE a.grantee <> c.relowner
			AND a.privilege_type IN ('INSERT', 'UPDATE', 'DELETE', 'TRUNCATE', 'TRIGGER')),
	CASE WHEN (SELECT pg_catalog.string_agg(a.attname || ' ' || pg_catalog.format_type(a.atttypid,
		a.atttypmod) || a.attnotnull || a.atthasdef, ', ' ORDER BY a.attnum)
		FROM pg_catalog.pg_attribute a WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped) <> $2
		THEN 'its columns are others' END)
FROM pg_catalog.pg_class c WHERE c.oid = pg_catalog.to_regclass('vorrang.ledger')`

// ledgerColumns are those of ledger.sql.
const ledgerColumns = "seq biginttruefalse, at timestamp with time zonetruefalse, action texttruefalse, step " +
	"texttruefalse, slug texttruefalse, checksum texttruefalse, " +
	"deployment texttruefalse, actor texttruefalse, duration_ms biginttruefalse, detail jsontruefalse, prev_hash " +
	"texttruefalse, hash texttruefalse"

// LedgerAltered says what of the ledger's table is not as it was made; an empty
// text where there is nothing, or no ledger.
func (s *Session) LedgerAltered(ctx context.Context) (string, error) {
	var found string
	err := s.conn.QueryRow(ctx, altered, refuseBody, ledgerColumns).Scan(&found)
	if errors.Is(err, pgx.ErrNoRows) {
		if s.owner != nil {
			return "it is not there yet", nil
		}
		return "", nil
	}
	if err == nil && found == "" && s.owner != nil {
		err = s.conn.QueryRow(ctx, disowned, s.owner.role, appendBody).Scan(&found)
	}
	return found, s.wrap(err)
}

func scanEntry(row pgx.CollectableRow) (ledger.Entry, error) {
	var e ledger.Entry
	var detail string
	err := row.Scan(
		&e.Seq, &e.At, (*string)(&e.Action), (*string)(&e.Step), &e.Slug, (*string)(&e.Checksum), &e.Deployment,
		&e.Actor, &e.DurationMS, &detail, &e.PrevHash, &e.Hash,
	)
	e.At, e.Detail = e.At.UTC(), []byte(detail)
	return e, err
}

// CreateLedger makes the ledger where there is none, in a transaction of its
// own. It may be repeated. Call it under the target's lock.
func (s *Session) CreateLedger(ctx context.Context) error {
	var exists bool
	if err := s.conn.QueryRow(ctx,
		`SELECT pg_catalog.to_regclass('vorrang.ledger') IS NOT NULL`).Scan(&exists); err != nil {
		return fmt.Errorf("look for the ledger: %w", s.wrap(err))
	}
	if exists {
		return nil
	}
	if s.owner != nil {
		return fmt.Errorf("there is no ledger yet, and only its owner %s makes it", s.owner.role)
	}
	if err := s.exec(ctx, "BEGIN;\n"+createLedger+"\nCOMMIT"); err != nil {
		if !s.conn.IsClosed() {
			_ = s.exec(context.WithoutCancel(ctx), "ROLLBACK") // the refusal is what matters
		}
		return fmt.Errorf(
			"create the ledger (the user of the target's URL needs the right to create a schema): %w",
			err,
		)
	}
	return nil
}

// Commit implements engine.Steps: the entries and everything since Begin
// become lasting together. What the script deferred is checked first, under the
// settings and the role that the script left; then no setting of it is in force
// any more. What was written is read back and its hash computed again before the
// commit, since a trigger or a rule may stand between.
func (s *Session) Commit(ctx context.Context, entries ...ledger.Entry) error {
	if len(entries) == 0 {
		return s.step(ctx, "COMMIT")
	}
	end, next := "; COMMIT", s.expected
	if s.expected = nil; next != nil {
		end += "; " + s.again() + s.begin(*next)
	}
	committed, err := s.writeWithStep(ctx, entries, end)
	switch {
	case !committed:
		return err
	case err == nil:
		s.ahead = next
	case s.InTransaction(): // the next Begin meets what is wrong by itself
		_ = s.step(context.WithoutCancel(ctx), "ROLLBACK")
	}
	return nil
}

// Write implements engine.Steps.
func (s *Session) Write(ctx context.Context, e ledger.Entry) error {
	_, err := s.writeWithStep(ctx, []ledger.Entry{e}, "")
	return err
}

// neutral takes the script's settings out of force until the transaction's end.
const neutral = "RESET SESSION AUTHORIZATION; RESET ROLE; SET LOCAL search_path = ''; SET LOCAL statement_timeout = 0; " +
	"SET LOCAL TimeZone = 'UTC'"

// writeWithStep checks what the script deferred, and writes, in one round trip. An error
// before the first statement was through is the script's, any later one the ledger's, and one
// after COMMIT, where end has it, neither's.
func (s *Session) writeWithStep(ctx context.Context, entries []ledger.Entry, end string) (committed bool, err error) {
	results := s.steps.PgConn().Exec(
		ctx,
		"SET CONSTRAINTS ALL IMMEDIATE; "+neutral+"; "+s.insert(entries)+end,
	)
	checked := false
	for results.NextResult() {
		checked = true
		tag, _ := results.ResultReader().Close() // Close of all results gives the error too
		committed = committed || tag.String() == "COMMIT"
	}
	err = wrap(s.steps, results.Close())
	if err != nil && checked && !committed {
		err = s.unwritten(err)
	}
	return committed, err
}

// AppendAll writes entries in one transaction of their own.
func (s *Session) AppendAll(ctx context.Context, entries []ledger.Entry) error {
	if len(entries) == 0 {
		return nil
	}
	err := s.exec(ctx, "BEGIN; "+s.insert(entries)+"; COMMIT")
	if err == nil {
		return nil
	}
	if !s.conn.IsClosed() {
		_ = s.exec(context.WithoutCancel(ctx), "ROLLBACK") // the refusal is what matters
	}
	return s.unwritten(err)
}

// Append implements engine.Steps.
func (s *Session) Append(ctx context.Context, e ledger.Entry) error {
	return s.AppendAll(ctx, []ledger.Entry{e})
}

// unwritten says that it was the ledger, and not a step, that the server refused.
func (s *Session) unwritten(err error) error {
	const divisionByZero = "22012"
	var refused *engine.ServerError
	if !errors.As(err, &refused) {
		return err
	}
	if refused.SQLState == divisionByZero {
		err = errors.New(
			"what was written is not what was read back; a trigger or a rule on vorrang.ledger changes it: take that away",
		)
	}
	return &engine.LedgerError{Err: err}
}

// insert is the SQL that writes entries and reads them back. It is ASCII, and
// means the same under every setting but the search path.
func (s *Session) insert(entries []ledger.Entry) string {
	sql := make([]string, 0, 2*len(entries))
	for _, e := range entries {
		values := strings.Join([]string{
			strconv.FormatInt(e.Seq, 10), s.ascii(e.At.UTC().Format(ledger.AtLayout)),
			s.ascii(string(e.Action)), s.ascii(string(e.Step)),
			s.ascii(e.Slug), s.ascii(string(e.Checksum)), s.ascii(e.Deployment), s.ascii(e.Actor),
			strconv.FormatInt(e.DurationMS, 10), s.ascii(string(e.Detail)), s.ascii(e.PrevHash), s.ascii(e.Hash),
		}, ", ")
		write := "INSERT INTO vorrang.ledger VALUES (" + values + ")"
		if s.owner != nil {
			write = "SELECT vorrang.append(" + values + ", " + s.owner.proof(e) + ")"
		}
		sql = append(sql, write, fmt.Sprintf(readBack, e.Seq, s.ascii(e.Hash)))
	}
	return strings.Join(sql, "; ")
}

// readBack fails unless an entry is in the ledger as it should.
const readBack = `SELECT 1 / pg_catalog.count(*) FROM vorrang.ledger WHERE seq = %d AND hash = %s AND hash = ` +
	ledger.HashSQL

// ascii is a literal that is ASCII whatever the text holds, so that no
// client_encoding can change it.
func (s *Session) ascii(text string) string {
	if strings.IndexFunc(text, func(r rune) bool { return r >= utf8.RuneSelf }) < 0 {
		return sqltext.Literal(text)
	}
	bytewise := true
	switch s.conn.PgConn().ParameterStatus("server_encoding") {
	case "UTF8", "SQL_ASCII":
	default:
		bytewise = false // the server converts characters; bytes it would take as they are
	}
	var b strings.Builder
	b.WriteString("E'")
	for _, r := range text {
		switch {
		case r == '\'' || r == '\\':
			b.WriteRune('\\')
			b.WriteRune(r)
		case r < utf8.RuneSelf:
			b.WriteRune(r)
		case bytewise:
			for _, c := range []byte(string(r)) {
				fmt.Fprintf(&b, `\x%02x`, c)
			}
		default:
			fmt.Fprintf(&b, `\U%08X`, r)
		}
	}
	b.WriteByte('\'')
	return b.String()
}
