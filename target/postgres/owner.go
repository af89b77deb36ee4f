package postgres

import (
	"crypto/hmac"
	"crypto/sha256"
	_ "embed"
	"fmt"
	"strings"

	"vorrang/core/ledger"
)

// owner is who owns a ledger that the target's user cannot write to. Entries are
// appended by a function of the owner's, which takes those only that carry a proof
// made with a key.
type owner struct {
	role string
	key  [sha256.Size]byte
}

// LedgerOwner says that the ledger belongs to a role that the session's user is no
// member of, and with which key entries are proved.
func (s *Session) LedgerOwner(role, key string) { s.owner = &owner{role, sha256.Sum256([]byte(key))} }

// proof is the literal of an entry's HMAC-SHA-256. It is worth nothing for another
// entry.
func (o *owner) proof(e ledger.Entry) string {
	mac := hmac.New(sha256.New, o.key[:])
	mac.Write([]byte(e.Hash))
	return fmt.Sprintf(`pg_catalog.decode('%x', 'hex')`, mac.Sum(nil))
}

//go:embed ledger-owner.sql
var ledgerOwner string

// LedgerOwnerSQL implements engine.Scripts: a superuser runs it with psql.
func (Engine) LedgerOwnerSQL(owner, login string) string {
	refuse := createLedger[strings.Index(createLedger, "CREATE FUNCTION"):]
	refuse = strings.Replace(
		refuse[:strings.Index(refuse, "$$;")+len("$$;")],
		"CREATE FUNCTION",
		"CREATE OR REPLACE FUNCTION",
		1,
	)
	escapes := strings.NewReplacer("'", "''", `\`, `\\`, "\n", `\n`) // as psql's \set reads them
	quote := func(name string) string { return "'" + escapes.Replace(name) + "'" }
	return strings.NewReplacer("<owner>", quote(owner), "<login>", quote(login), "<ledger>",
		strings.TrimSpace(createLedger),
		"<refuse>", refuse, "<hash>", ledger.HashSQL).
		Replace(ledgerOwner)
}

// The texts of the ledger's functions, as the server keeps them.
var (
	refuseBody = within(createLedger, "AS $$", "$$")
	appendBody = within(Engine{}.LedgerOwnerSQL("", ""), "AS $append$", "$append$")
)

// within is what stands between two texts, the first time.
func within(text, after, before string) string {
	_, rest, _ := strings.Cut(text, after)
	body, _, _ := strings.Cut(rest, before)
	return body
}

// disowned finds what lets others than the ledger's owner write to it.
const disowned = `SELECT pg_catalog.concat_ws('; ',
	CASE WHEN pg_catalog.pg_get_userbyid(c.relowner) <> $1 THEN 'it belongs to ' || pg_catalog.pg_get_userbyid(c.relowner) || ', and not to ' || $1 END,
	CASE WHEN pg_catalog.pg_get_userbyid(n.nspowner) <> $1 THEN 'its schema belongs to ' || pg_catalog.pg_get_userbyid(n.nspowner) || ', and not to ' || $1 END,
	(SELECT 'user ' || session_user || ' is a superuser, or a member of ' || $1 FROM pg_catalog.pg_roles r
		WHERE r.rolname = $1 AND pg_catalog.pg_has_role(session_user, r.oid, 'MEMBER')),
	(SELECT 'user ' || session_user || ' can get round its owner as ' || pg_catalog.string_agg(r.rolname, ', '
		ORDER BY r.rolname)
		FROM pg_catalog.pg_roles r LEFT JOIN pg_catalog.pg_class k ON k.relnamespace = n.oid AND k.relname = 'ledger_key'
		WHERE pg_catalog.pg_has_role(session_user, r.oid, 'MEMBER')
			AND NOT pg_catalog.pg_has_role(session_user, c.relowner, 'MEMBER')
			AND (r.rolname IN ('pg_execute_server_program', 'pg_read_server_files', 'pg_write_server_files')
				OR r.rolcreaterole AND pg_catalog.current_setting('server_version_num')::int < 160000 -- who can make anybody a member of anything
				OR pg_catalog.has_table_privilege(r.oid, c.oid, 'INSERT, UPDATE, DELETE, TRUNCATE, TRIGGER')
				OR pg_catalog.has_table_privilege(r.oid, k.oid, 'SELECT'))),
	(SELECT pg_catalog.string_agg(DISTINCT CASE a.grantee WHEN 0 THEN 'everybody'
		ELSE pg_catalog.pg_get_userbyid(a.grantee)::text END, ', ') || ' may make objects in its schema'
		FROM pg_catalog.aclexplode(n.nspacl) a WHERE a.grantee <> n.nspowner AND a.privilege_type = 'CREATE'),
	(SELECT pg_catalog.string_agg(DISTINCT CASE a.grantee WHEN 0 THEN 'everybody'
		ELSE pg_catalog.pg_get_userbyid(a.grantee)::text END, ', ') || ' may read its key'
		FROM pg_catalog.pg_class k, pg_catalog.aclexplode(k.relacl) a WHERE k.relnamespace = n.oid
			AND k.relname = 'ledger_key' AND a.grantee <> k.relowner),
	(SELECT 'its key belongs to ' || pg_catalog.pg_get_userbyid(k.relowner) FROM pg_catalog.pg_class k
		WHERE k.relnamespace = n.oid AND k.relname = 'ledger_key' AND k.relowner <> c.relowner),
	CASE WHEN (SELECT pg_catalog.count(*) FROM pg_catalog.pg_proc p WHERE p.pronamespace = n.oid
		AND p.proname = 'append') <> 1
		OR NOT EXISTS (SELECT FROM pg_catalog.pg_proc p WHERE p.pronamespace = n.oid AND p.proname = 'append'
			AND p.proowner = c.relowner
			AND p.prosecdef AND p.prosrc = $2 AND p.proconfig = ARRAY['search_path=pg_catalog, pg_temp'])
		THEN 'its function append is gone or another' END)
FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
	WHERE c.oid = pg_catalog.to_regclass('vorrang.ledger')`
