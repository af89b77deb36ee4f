package step

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"testing/fstest"
	"unicode/utf8"

	pg "github.com/pganalyze/pg_query_go/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOptionsCountOrAreAnError(t *testing.T) {
	const block = "/*---\nmode: autocommit\n---*/\n"
	cases := map[string]struct {
		name, text string
		mode       Mode
		wrong      string
	}{
		"at the top":   {"1-a.sql", block + "SELECT 1;", Autocommit, ""},
		"below a note": {"1-a.sql", "-- a note\n\n" + block + "SELECT 1;", Autocommit, ""},
		"below a licence": {
			"1-a.sql",
			"/* Licence\n * of /* nested */ words\n */\n" + block + "SELECT 1;",
			Autocommit, "",
		},
		"below a statement": {
			"1-a.sql",
			"SELECT 1;\n" + block,
			Transaction,
			"1-a.sql:2:1: options stand here, behind a statement; they count only above the first one: move them up",
		},
		"twice": {
			"1-a.sql",
			block + "-- a note\n/*---\nretries: 1\n---*/\nSELECT 1;",
			Autocommit,
			"1-a.sql:5:1: a second options comment; put all options into the first",
		},
		"with a dash too few": {
			"1-a.sql",
			"-- a note\n/*--\nmode: autocommit\n--*/\nSELECT 1;",
			Transaction,
			"1-a.sql:2:1: this comment holds options, and does not open as they do",
		},
		"with a blank": {
			"1-a.sql",
			"/* ---\nmode: autocommit\n--- */\nSELECT 1;",
			Transaction,
			"this comment holds options",
		},
		"a comment with a dash":          {"1-a.sql", "/*- a heading -*/ SELECT 1;", Transaction, ""},
		"a comment that speaks of modes": {"1-a.sql", "/* mode: of speech */ SELECT 1;", Transaction, ""},
		"in a way back": {
			"1-a.back.sql",
			block + "SELECT 1;",
			"",
			"1-a.back.sql:1:1: options stand here; they count in the step's forward file only",
		},
		"in a check": {
			"1-a.check.sql",
			"SELECT true;\n" + block,
			"",
			"1-a.check.sql:2:1: options stand here",
		},
		"a banner behind a statement": {
			"1-a.sql",
			"SELECT 1;\n/*------ part two ------*/\nSELECT 2;",
			Transaction, "",
		},
		"a banner over several lines": {
			"1-a.sql",
			"SELECT 1;\n/*---\n  part two: the berths\n---*/\nSELECT 2;",
			Transaction, "",
		},
		"a banner at the head": {
			"1-a.sql",
			"/*------ berths: the first part ------*/\nSELECT 1;",
			Transaction, "",
		},
		"a high banner at the head": {
			"1-a.sql",
			"/*---------\n  berths\n---------*/\n" + block + "SELECT 1;",
			Autocommit, "",
		},
		"with a dash too many": {
			"1-a.sql",
			"/*----\nmode: autocommit\n----*/\nSELECT 1;",
			Transaction,
			"1-a.sql:1:1: this comment holds options, and does not open as they do",
		},
		"on one line": {
			"1-a.sql",
			"/*--- mode: autocommit ---*/\nSELECT 1;",
			Transaction,
			"1-a.sql:1:1: this comment holds options, and does not open as they do",
		},
		"almost, behind a statement": {
			"1-a.sql",
			"SELECT 1;\n  /*--\nmode: autocommit\n--*/",
			Transaction,
			"1-a.sql:2:3: options stand here, behind a statement",
		},
		"within a line comment": {
			"1-a.sql",
			"-- /*---\n-- mode: autocommit ---*/\nSELECT 1;",
			Transaction, "",
		},
		"in a string": {"1-a.sql", "SELECT '\n" + block + "';", Transaction, ""},
		"behind a string": {
			"1-a.sql",
			"SELECT 'it''s', E'it\\'s', U&'x', \"a'b\";\n" + block,
			Transaction,
			"1-a.sql:2:1: options stand here, behind a statement",
		},
		"in a function's body": {
			"1-a.sql",
			"CREATE FUNCTION f() RETURNS text LANGUAGE sql AS $body$ SELECT $$\n" + block + "$$ $body$;",
			Transaction, "",
		},
		"behind a body": {
			"1-a.sql",
			"DO $$ BEGIN END $$;\n" + block,
			Transaction,
			"1-a.sql:2:1: options stand here, behind a statement",
		},
		"behind parameters": {
			"1-a.sql",
			"PREPARE p AS SELECT a$1$ FROM b WHERE c = $1$1;\n" + block,
			Transaction,
			"1-a.sql:2:1: options stand here, behind a statement",
		},
		"in the data of a COPY": {
			"1-a.sql",
			"COPY note FROM STDIN;\nit's\n" + block + "\\.\nSELECT 1;",
			Transaction, "",
		},
		"behind the data of a COPY": {
			"1-a.sql",
			"-- notes\ncopy note (text) from stdin with (format csv);\nit's\n\\.\n" + block,
			Transaction,
			"1-a.sql:5:1: options stand here, behind a statement",
		},
		"never closed": {
			"1-a.sql",
			"/* a note */\n/*---\nmode: autocommit\nSELECT 1;",
			Transaction,
			"1-a.sql:2:1: the options comment is opened",
		},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			file, problems := ReadFile(c.name, []byte(c.text))
			if c.wrong != "" {
				require.NotEmpty(t, problems)
				assert.ErrorContains(t, problems, c.wrong)
				return
			}
			require.Empty(t, problems)
			assert.Equal(t, c.mode, file.Options.Mode)
		})
	}
}

func TestNoStepHasNumberZero(t *testing.T) {
	for _, name := range []string{"0-a.sql", "000-a.sql"} {
		_, problems := ReadFile(name, []byte("SELECT 1"))
		assert.ErrorContains(t, problems, "the number 0 stands for the beginning")
	}
	_, problems := ReadFile("0.1-a.sql", []byte("SELECT 1"))
	assert.Empty(t, problems)
}

func TestAnOptionIsFoundInItsFile(t *testing.T) {
	line, column := OptionPosition([]byte("-- a note\n/*---\nmode: autocommit\nonly: moon\n---*/\nSELECT 1;"), "only")
	assert.Equal(t, []int{4, 1}, []int{line, column})
}

func TestACaretStandsUnderItsCharacter(t *testing.T) {
	for _, c := range []struct{ source, below string }{{"SELECT x", "       ^"}, {"\tSELECT x", "\t       ^"},
		{"SELECT '港湾', x", "               ^"}, {"SELECT 'ж', x", "             ^"[1:]}} {
		caret := len([]rune(c.source))
		assert.Equal(t, "  7 | "+c.source+"\n    | "+c.below+"\n", Excerpt(7, c.source, caret))
	}
}

func FuzzOptions(f *testing.F) {
	f.Add("/*---\nmode: autocommit\n---*/\nSELECT 1;")
	f.Add("/* /* */ -- \n/*---")
	f.Add("COPY a FROM STDIN;\nit's\n\\.\n$a$ /*--- $a$ E'\\' U&\"x\" /*")
	f.Fuzz(func(t *testing.T, text string) {
		_, _ = ReadFile("1-a.sql", []byte(text))
		_, _ = ReadFile("1-a.back.sql", []byte(text))
		_, _ = ReadDir(fstest.MapFS{"1-a.sql": &fstest.MapFile{Data: []byte(text)}})
	})
}

func TestWhatIsNoOrdinaryFileIsNamed(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(t, os.Symlink("nowhere.sql", at("1-dangling.sql")))
	require.NoError(t, os.Symlink("2-loop.sql", at("2-loop.sql")))
	require.NoError(t, syscall.Mkfifo(at("3-pipe.sql"), 0o600), "reading it would wait for ever")
	require.NoError(t, os.WriteFile(at("4-create-berth.sql"), []byte("CREATE TABLE berth ();"), 0o600))
	require.NoError(t, os.Symlink("4-create-berth.sql", at("5-create-berth-too.sql")))
	require.NoError(t, os.Mkdir(at("old"), 0o700))
	require.NoError(t, os.Symlink("old", at("6-folder.sql")))
	names, err := List(os.DirFS(dir))
	var problems Problems
	require.ErrorAs(t, err, &problems)
	found := map[string]string{}
	for _, p := range problems {
		found[p.File] = p.Message
	}
	assert.Len(t, found, 5)
	assert.Contains(t, found["1-dangling.sql"], "is a link that leads to no file of this folder")
	assert.Contains(t, found["2-loop.sql"], "is a link that leads to no file of this folder")
	assert.Contains(t, found["3-pipe.sql"], "is not an ordinary file")
	assert.Contains(t, found["6-folder.sql"], "is not an ordinary file")
	assert.Contains(t, found["old"], "is a folder")
	assert.Equal(
		t,
		[]string{"4-create-berth.sql", "5-create-berth-too.sql"},
		names,
		"a link to a file is as good as the file",
	)
}

// The server's own scanner is the oracle: it and blockComments find the same
// comments. The data of a COPY is no SQL, so that texts with one are left out.
func FuzzBlockComments(f *testing.F) {
	f.Add(
		"SELECT 'it''s', E'it\\'s' /* one */, \"a/*b\", $$/*$$, $a$ $b$ /* $a$ -- /*\n" +
			"/* two /* within */ */ ; a$x$ /* three */ $1",
	)
	f.Add("SELECT b'01', X'1f', u&'x' UESCAPE '!', 1e/**/, a/**/b, é'/*x*/'")
	f.Fuzz(func(t *testing.T, text string) {
		scanned, err := pg.Scan(text)
		if err != nil || !utf8.ValidString(text) || strings.ContainsRune(text, 0) || copiesSomewhere.MatchString(text) {
			t.Skip()
		}
		var want, got []comment
		for _, token := range scanned.Tokens {
			if token.Token == pg.Token_C_COMMENT {
				want = append(want, comment{from: int(token.Start), to: int(token.End)})
			}
		}
		for _, c := range blockComments([]byte(text)) {
			got = append(got, comment{from: c.from, to: c.to})
		}
		assert.Equal(t, want, got)
	})
}

var copiesSomewhere = regexp.MustCompile(`(?i)copy`)
