package grammar

import (
	"fmt"
	"strings"
	"testing"

	"vorrang/core/sqltext"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCutFindsWhereStatementsEnd(t *testing.T) {
	cases := map[string]struct {
		text string
		want []string
	}{
		"nothing":                            {"", nil},
		"comments only":                      {"-- a\n/* b */", nil},
		"empty statements are no statements": {";; select 1 ;;", []string{"select 1"}},
		"the last semicolon may be missing":  {"select 1; select 2", []string{"select 1", "select 2"}},
		"semicolons in strings": {
			`select 'a;b', E'\';', ";"; select 2;`,
			[]string{`select 'a;b', E'\';', ";"`, "select 2"},
		},
		"a string that goes on": {
			"select 'a'\n ';b'; select 2",
			[]string{"select 'a'\n ';b'", "select 2"},
		},
		"dollar quotes within dollar quotes": {
			"do $a$ begin; $b$;$b$ $a$; select 1",
			[]string{"do $a$ begin; $b$;$b$ $a$", "select 1"},
		},
		"nested comments": {
			"select /* a /* ; */ ; */ 1; -- ;\nselect 2",
			[]string{"select /* a /* ; */ ; */ 1", "select 2"},
		},
		"semicolons in parentheses": {
			"create rule r as on insert to a do (select 1; select 2); select 3",
			[]string{"create rule r as on insert to a do (select 1; select 2)", "select 3"},
		},
		"a body with CASE": {
			"create or replace function f() returns int begin atomic select 1; select case when true then 1 end; end; select 2",
			[]string{
				"create or replace function f() returns int begin atomic select 1; select case when true then 1 end; end",
				"select 2",
			},
		},
		"BEGIN of a transaction is no body": {"begin; select 1; end;", []string{"begin", "select 1", "end"}},
		"a column called atomic": {
			"select atomic from t; select 1",
			[]string{"select atomic from t", "select 1"},
		},
		"leading comments are not the text": {
			"/*---\nmode: autocommit\n---*/\n-- why\nvacuum t;",
			[]string{"vacuum t"},
		},
		"a comment before the semicolon": {"select 1 -- one\n;select 2", []string{"select 1", "select 2"}},
		"characters of several bytes":    {"select 'ж;'; select 'ü'", []string{"select 'ж;'", "select 'ü'"}},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			statements, err := Cut([]byte(c.text))
			require.NoError(t, err)
			assert.Equal(t, c.want, texts(statements))
		})
	}
}

func texts(statements []sqltext.Statement) []string {
	var list []string
	for _, s := range statements {
		list = append(list, string(s.SQL))
	}
	return list
}

func TestCutTakesCopyDataAsItStands(t *testing.T) {
	text := "create table t (a text);\nCOPY t (a) FROM stdin; -- rows\nit's; \\N \"\n/* $$\n\\.\nselect 1;\n" +
		"copy t from stdin with (format csv);\n\\.\nselect 2"
	statements, err := Cut([]byte(text))
	require.NoError(t, err)
	require.Len(t, statements, 5)
	data := statements[1]
	assert.True(t, data.IsCopy)
	assert.Equal(t, "it's; \\N \"\n/* $$\n", string(data.CopyData))
	assert.Equal(t, 3, data.DataLine)
	assert.Equal(t, 6, statements[2].Line)
	assert.True(t, statements[3].IsCopy)
	assert.Empty(t, statements[3].CopyData)
	assert.False(t, statements[4].IsCopy)
}

func TestCutNamesThePlaceOfAnError(t *testing.T) {
	cases := map[string]struct{ text, want string }{
		"an open string":        {"select 1;\n  select 'ж', 'abc;\n", "2:15: unterminated quoted string"},
		"an open dollar quote":  {"do $x$ begin", "1:4: unterminated dollar-quoted string"},
		"an open comment":       {"select 1; /* a /* b */", "1:11: unterminated /* comment"},
		"a command of psql":     {"select 1;\n\\connect other\n", "2:1: \\connect is a command of psql"},
		"psql's \\gexec":        {"select 1 \\gexec\n", "1:10: \\gexec is a command of psql"},
		"COPY data without end": {"copy t from stdin;\n1\n2\n", "1:1: the data of this COPY"},
		"text behind a COPY":    {"copy t from stdin; select 1;\n\\.\n", "1:20: text stands behind COPY"},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			_, err := Cut([]byte(c.text))
			require.ErrorContains(t, err, c.want)
		})
	}
}

// Windows must not show: the same statements come out wherever a window ends.
func TestCutIsTheSameAcrossWindows(t *testing.T) {
	var text strings.Builder
	var want []string
	add := func(statement string) {
		want = append(want, statement)
		text.WriteString(statement + ";\n")
	}
	for i := range 4000 {
		add(fmt.Sprintf("insert into berth values (%d, 'it''s ; ж', $q$;%d$q$)", i, i))
	}
	add("select '" + strings.Repeat("x;", 200_000) + "'")
	add("select " + strings.Repeat("E'a\\'' \n 'b;'\n /* c; */ || ", 9000) + "''")
	add("insert into t values " + strings.Repeat("(1,'a;'),", 60_000) + "(2,'b')")
	for pad := range 3 {
		statements, err := Cut([]byte(strings.Repeat(" ", pad*31) + text.String()))
		require.NoError(t, err)
		require.Equal(t, len(want), len(statements))
		for i := range want {
			require.True(t, want[i] == string(statements[i].SQL), "statement %d differs", i)
		}
	}
}

// Whatever the text, cutting ends, and every statement stands where it says.
func FuzzCut(f *testing.F) {
	for _, seed := range []string{
		"select 1; select ';'", "copy t from stdin;\na;'\n\\.\nselect 1", "create function f() returns int begin atomic " +
			"select 1; end;",
		"do $$ ; $$; \\d", "/* /* */ ; */ select U&'\\0041' uescape '!'", "select 'a'\n'b;'; select $1;", "(;);",
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if strings.ContainsRune(text, 0) || strings.ToValidUTF8(text, "") != text {
			t.Skip("refused before it is cut")
		}
		statements, err := Cut([]byte(text))
		if err != nil {
			return
		}
		at := 0
		for _, s := range statements {
			require.GreaterOrEqual(t, s.Offset, at)
			require.Equal(t, string(s.SQL), text[s.Offset:s.Offset+len(s.SQL)])
			require.NotEmpty(t, strings.TrimSpace(string(s.SQL)))
			at = s.Offset + len(s.SQL)
		}
	})
}
