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

// LedgerOwnerSQL is what a superuser runs with psql, so that the ledger belongs to
// a role of its own. login is the user of the target's URL.
func LedgerOwnerSQL(role, login string) string {
	refuse := createLedger[strings.Index(createLedger, "CREATE FUNCTION"):]
	refuse = strings.Replace(refuse[:strings.Index(refuse, "$$;")+len("$$;")], "CREATE FUNCTION", "CREATE OR REPLACE FUNCTION", 1)
	quote := func(name string) string {
		return "'" + strings.NewReplacer("'", "''", `\`, `\\`, "\n", `\n`).Replace(name) + "'"
	}
	return strings.NewReplacer("<owner>", quote(role), "<login>", quote(login), "<ledger>", strings.TrimSpace(createLedger),
		"<refuse>", refuse, "<hash>", ledger.HashSQL).Replace(ledgerOwner)
}

// appendBody is the text of the function that appends entries.
func appendBody() string {
	_, body, _ := strings.Cut(LedgerOwnerSQL("", ""), "AS $append$")
	body, _, _ = strings.Cut(body, "$append$")
	return body
}

// disowned finds what lets somebody else than the ledger's owner write to it.
const disowned = `SELECT pg_catalog.concat_ws('; ',
	CASE WHEN pg_catalog.pg_get_userbyid(c.relowner) <> $1 THEN 'it belongs to ' || pg_catalog.pg_get_userbyid(c.relowner) || ', and not to ' || $1 END,
	CASE WHEN pg_catalog.pg_get_userbyid(n.nspowner) <> $1 THEN 'its schema belongs to ' || pg_catalog.pg_get_userbyid(n.nspowner) || ', and not to ' || $1 END,
	(SELECT 'user ' || session_user || ' is a superuser, or a member of ' || $1 FROM pg_catalog.pg_roles r WHERE r.rolname = $1 AND pg_catalog.pg_has_role(session_user, r.oid, 'MEMBER')),
	(SELECT pg_catalog.string_agg(DISTINCT CASE a.grantee WHEN 0 THEN 'everybody' ELSE pg_catalog.pg_get_userbyid(a.grantee)::text END, ', ') || ' may make objects in its schema'
		FROM pg_catalog.aclexplode(n.nspacl) a WHERE a.grantee <> n.nspowner AND a.privilege_type = 'CREATE'),
	(SELECT pg_catalog.string_agg(DISTINCT CASE a.grantee WHEN 0 THEN 'everybody' ELSE pg_catalog.pg_get_userbyid(a.grantee)::text END, ', ') || ' may read its key'
		FROM pg_catalog.pg_class k, pg_catalog.aclexplode(k.relacl) a WHERE k.relnamespace = n.oid AND k.relname = 'ledger_key' AND a.grantee <> k.relowner),
	(SELECT 'its key belongs to ' || pg_catalog.pg_get_userbyid(k.relowner) FROM pg_catalog.pg_class k WHERE k.relnamespace = n.oid AND k.relname = 'ledger_key' AND k.relowner <> c.relowner),
	CASE WHEN (SELECT pg_catalog.count(*) FROM pg_catalog.pg_proc p WHERE p.pronamespace = n.oid AND p.proname = 'append') <> 1
		OR NOT EXISTS (SELECT FROM pg_catalog.pg_proc p WHERE p.pronamespace = n.oid AND p.proname = 'append' AND p.proowner = c.relowner
			AND p.prosecdef AND p.prosrc = $2 AND p.proconfig = ARRAY['search_path=pg_catalog, pg_temp'])
		THEN 'its function append is gone or another' END)
FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = pg_catalog.to_regclass('vorrang.ledger')`
