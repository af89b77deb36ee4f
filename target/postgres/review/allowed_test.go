package review

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"vorrang/core/step"
)

func TestStepsChangeRolesAndSessionsOnlyWhereTheLaneSaysSo(t *testing.T) {
	for text, kind := range map[string]string{
		"CREATE ROLE pilot;": step.Roles, "ALTER USER pilot SUPERUSER;": step.Roles, "DROP ROLE pilot;": step.Roles,
		"GRANT pilot TO berth;": step.Roles, "ALTER ROLE pilot SET search_path = evil;": step.Roles,
		"DROP OWNED BY pilot;": step.Roles, "ALTER ROLE pilot RENAME TO captain;": step.Roles,
		"CREATE EVENT TRIGGER e ON ddl_command_end EXECUTE FUNCTION f();": step.EventTriggers,
		"DROP EVENT TRIGGER e;": step.EventTriggers, "ALTER EVENT TRIGGER e DISABLE;": step.EventTriggers,
		"ALTER EVENT TRIGGER e OWNER TO pilot;": step.EventTriggers,
		"SET ROLE pilot;":                       step.SessionUser, "RESET ROLE;": step.SessionUser,
		"SET LOCAL ROLE pilot;": step.SessionUser, "SET SESSION AUTHORIZATION pilot;": step.SessionUser,
		"CREATE FUNCTION f() RETURNS void LANGUAGE sql SET role = pilot AS 'SELECT 1';": step.SessionUser,
		"DO $$ BEGIN EXECUTE 'reset role'; END $$;":                                     step.SessionUser,
		"DO $$ BEGIN PERFORM set_config('role', 'pilot', false); END $$;":               step.SessionUser,
		"CREATE FUNCTION f() RETURNS void LANGUAGE plpgsql AS $$ BEGIN EXECUTE 'ALTER USER eve " +
			"SUPERUSER'; END $$;": step.Roles,
		"SELECT 1, pg_catalog.set_config( 'Role', 'pilot', true );":                                step.SessionUser,
		"UPDATE crew SET boss = set_config('session_authorization', 'x', false)":                   step.SessionUser,
		"SELECT set_config(setting_name => E'role', new_value => 'x', is_local => false);":         step.SessionUser,
		"DO $$ BEGIN UPDATE pg_catalog.pg_settings SET setting = 'x' WHERE name = 'role'; END $$;": step.SessionUser,
		"SELECT set_config('session_replication_role', 'replica', false);":                         step.Settings,
		"SET session_replication_role = replica;":                                                  step.Settings,
		"ALTER SYSTEM SET work_mem = 1;":                                                           step.Settings,
	} {
		if strings.HasPrefix(text, "ALTER SYSTEM") {
			text = "/*---\nmode: autocommit\n---*/ " + text
		}
		s := step.Step{Number: "7", Slug: "a", Forward: read(t, "7-a.sql", text)}
		problems, _ := Check(s, nil)
		if assert.Len(t, problems, 1, text) {
			assert.Contains(t, problems[0].Message, "steps-may: ["+kind+"]", text)
		}
		allowed, _ := Check(s, []string{kind})
		assert.Empty(t, allowed, text)
		for _, other := range step.Special {
			if other != kind {
				refused, _ := Check(s, []string{other})
				assert.Len(t, refused, 1, "%s, where %s are allowed", text, other)
			}
		}
	}
	for _, text := range []string{
		"GRANT SELECT ON berth TO pilot;", "SELECT set_config('search_path', 'role', false);",
		"SELECT current_setting('role');", "ALTER TABLE berth OWNER TO pilot;", "SET search_path = harbour;",
		"CREATE TABLE role (event text, trigger text);", "RESET ALL;", "SELECT setting FROM pg_settings;",
		"UPDATE pg_settings_of_ours SET a = 1;",
		"CREATE USER MAPPING FOR pilot SERVER s;", "DO $$ BEGIN ALTER USER MAPPING FOR pilot SERVER s OPTIONS (user " +
			"'x'); END $$;", "COMMENT ON ROLE pilot IS 'x';",
		"-- SET ROLE pilot\nSELECT 'SET ROLE pilot', $$ALTER ROLE pilot$$;", "DO $$ BEGIN UPDATE crew SET role = " +
			"'pilot'; END $$;",
		"CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.role := 'x'; UPDATE crew SET role = 'x'; " +
			"RETURN NEW; END $$;",
	} {
		problems, _ := Check(step.Step{Number: "7", Slug: "a", Forward: read(t, "7-a.sql", text)}, nil)
		assert.Empty(t, problems, text)
	}
}

func TestACheckChangesNoSessionEither(t *testing.T) {
	check := read(t, "7-a.check.sql", "SELECT set_config('role', 'pilot', false) = 'pilot';")
	problems, _ := Check(
		step.Step{Number: "7", Slug: "a", Forward: read(t, "7-a.sql", "SELECT 1;"), Check: &check},
		nil,
	)
	assert.ErrorContains(t, problems, "7-a.check.sql:1:1: set_config('role'")
}
