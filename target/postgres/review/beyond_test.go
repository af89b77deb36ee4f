package review

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhatReachesBeyondItsDatabase(t *testing.T) {
	for text, message := range map[string]string{
		"CREATE TABLE a (id int);\nDROP DATABASE other;": "line 2: a database that " +
			"is made, changed or dropped reaches beyond the database",
		"ALTER DATABASE other SET work_mem = 1;":     "line 1: a database",
		"ALTER SYSTEM SET fsync = off;":              "ALTER SYSTEM",
		"CREATE ROLE eve SUPERUSER;":                 "a role",
		"ALTER USER pilot PASSWORD 'x';":             "a role",
		"GRANT pg_read_server_files TO eve;":         "a role",
		"COPY (SELECT 1) TO PROGRAM 'touch /tmp/x';": "COPY with a program",
		"COPY a FROM '/etc/passwd';": "COPY with a file of the " +
			"server",
		"SELECT pg_read_file('/etc/passwd');":                                                 "line 1 uses pg_read_file",
		"DO $$ BEGIN PERFORM Lo_Export(1, '/tmp/x'); END $$;":                                 "line 1 uses lo_export",
		"CREATE EXTENSION dblink;":                                                            "line 1 uses dblink",
		"CREATE SERVER s FOREIGN DATA WRAPPER w;":                                             "another server",
		"CREATE SUBSCRIPTION s CONNECTION 'host=x' PUBLICATION p;":                            "another server",
		"CREATE FUNCTION f() RETURNS int LANGUAGE c AS '/tmp/x.so', 'f';":                     "a function in C",
		"LOAD '/tmp/x.so';":                                                                   "LOAD",
		"CREATE TABLE a (id int); COPY a FROM STDIN;\n1\n\\.\nCREATE EXTENSION pg_trgm;":      "",
		"CREATE FUNCTION f() RETURNS int LANGUAGE sql AS 'SELECT 1'; GRANT SELECT ON a TO b;": "",
	} {
		found := Beyond([]byte(text))
		if message == "" {
			assert.Empty(t, found, text)
			continue
		}
		assert.Contains(t, found, message, text)
	}
}
