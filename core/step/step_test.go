package step

import (
	"bytes"
	"encoding/hex"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestNumbersCompareRunByRunAsNumbers(t *testing.T) {
	order := []string{
		"0", "1", "2", "2.0", "2.1", "2.1.5", "2.9", "2.10", "10", "20261123055721", "99999999999999999999999",
	}
	for i, a := range order {
		for j, b := range order {
			got := Compare(number(t, a), number(t, b))
			assert.Equal(t, sign(i-j), sign(got), "%s and %s", a, b)
		}
	}
	assert.Equal(t, number(t, "7"), number(t, "0007"))
	assert.Equal(t, number(t, "2.1"), number(t, "02.001"))
	assert.Equal(t, Number("0"), number(t, "000"))
}

func sign(n int) int {
	switch {
	case n < 0:
		return -1
	case n > 0:
		return 1
	}
	return 0
}

func number(t *testing.T, text string) Number {
	n, err := ParseNumber(text)
	require.NoError(t, err)
	return n
}

func TestWhatIsNoNumberIsRefused(t *testing.T) {
	for _, text := range []string{"", ".", "1.", ".1", "1..2", "a", "1a", "-1", "1 ", "１"} {
		_, err := ParseNumber(text)
		assert.Error(t, err, "%q", text)
	}
}

func TestTheNextNumberFollowsTheFirstRun(t *testing.T) {
	for from, want := range map[Number]Number{"": "1", "1": "2", "9": "10", "2.7": "3", "99": "100"} {
		assert.Equal(t, want, from.Next())
	}
}

func folder(files map[string]string) fstest.MapFS {
	fs := fstest.MapFS{}
	for name, text := range files {
		fs[name] = &fstest.MapFile{Data: []byte(text)}
	}
	return fs
}

func TestAFolderIsReadInOrder(t *testing.T) {
	steps, err := ReadDir(folder(map[string]string{
		"0010-add-berth.sql": "SELECT 1;", "2.1-fix.sql": "SELECT 1;", "0002-create-vessel.sql": "SELECT 1;",
		"0002-create-vessel.back.sql": "SELECT 2;", "0002-create-vessel.check.sql": "SELECT true;",
		"README.md": "about", ".gitignore": "x",
	}))
	require.NoError(t, err)
	require.Len(t, steps, 3)
	assert.Equal(t, []Number{"2", "2.1", "10"}, []Number{steps[0].Number, steps[1].Number, steps[2].Number})
	assert.Equal(t, "create vessel", steps[0].Title())
	assert.Equal(t, "SELECT 2;", string(steps[0].Back.Bytes))
	assert.Equal(t, "0002-create-vessel.check.sql", steps[0].Check.Name)
	assert.Nil(t, steps[1].Back)
}

func TestEveryProblemOfAFolderIsNamed(t *testing.T) {
	cases := map[string]struct {
		files map[string]string
		want  []string
	}{
		"an empty folder": {nil, []string{"the step folder is empty"}},
		"only a readme":   {map[string]string{"README.md": "x"}, []string{"the step folder is empty"}},
		"two files with one number": {
			map[string]string{"1-a.sql": "x", "01-b.sql": "x"},
			[]string{"1-a.sql: has the number of 01-b.sql (1)"},
		},
		"a way back alone": {
			map[string]string{"1-a.back.sql": "x"},
			[]string{"1-a.back.sql: is a way back without its step"},
		},
		"a way back with another slug": {
			map[string]string{"1-a.sql": "x", "1-b.back.sql": "x"},
			[]string{`is a way back for "b", but step 1 is 1-a.sql`},
		},
		"two checks": {
			map[string]string{"1-a.sql": "x", "1-a.check.sql": "x", "01-a.check.sql": "x"},
			[]string{"is a second check for step 1"},
		},
		"names that fit no pattern": {
			map[string]string{"1_a.sql": "x", "1-A.sql": "x", "a.sql": "x", "1-a.txt": "x"},
			[]string{"1_a.sql: the name fits no step file", "1-A.sql:", "a.sql:", "1-a.txt:"},
		},
		"a sub-folder": {
			map[string]string{"old/1-a.sql": "x"},
			[]string{"old: is a folder; a step folder is flat"},
		},
		"an empty file": {map[string]string{"1-a.sql": " \n\t"}, []string{"1-a.sql: is empty"}},
		"bytes that are not UTF-8": {
			map[string]string{"1-a.sql": "SELECT 1;\nSELECT 'h\xe4fen';"},
			[]string{"1-a.sql:2:10: the byte 0xe4 is not UTF-8"},
		},
		"UTF-16": {
			map[string]string{"1-a.sql": "S\x00E\x00"},
			[]string{"1-a.sql:1:2: a NUL byte"},
		},
		"an unknown option": {
			map[string]string{"1-a.sql": "/*---\nmode: autocommit\nlocktimeout: 5s\n---*/\nVACUUM;"},
			[]string{`1-a.sql:3:1: there is no option "locktimeout"`},
		},
		"options that are out of range": {
			map[string]string{
				"1-a.sql": "/*---\nmode: fast\nretries: -1\nphase: grow\nlock-timeout: 5 parsecs\nbatch-size: 0\nonly: []\n" +
					"accept: {lock: \"\"}\n---*/\nx",
			},
			[]string{
				"1-a.sql:2:7: mode:",
				"1-a.sql:3:10: retries:",
				"1-a.sql:4:8: phase:",
				"1-a.sql:5:15: lock-timeout:",
				"1-a.sql:6:13: batch-size:",
				"1-a.sql:8:16: accept:",
			},
		},
		"options that are no YAML": {map[string]string{"1-a.sql": "-- why\n"}, nil},
		"an option that stands twice": {
			map[string]string{"1-a.sql": "/*---\nretries: 1\nretries: 2\n---*/\nx"},
			[]string{"1-a.sql:3:1:"},
		},
		"broken YAML": {
			map[string]string{"1-a.sql": "\n/*---\nmode: [\n---*/\nx"},
			[]string{"the options are not valid YAML"},
		},
		"a comment that is not closed": {
			map[string]string{"1-a.sql": "\n /*---\nmode: autocommit\n*/ SELECT 1;"},
			[]string{"1-a.sql:2:2: the options comment is opened with /*--- and never closed"},
		},
		"several at once": {
			map[string]string{"1-a.sql": " ", "2-b.sql": "\xff", "3-c.sql": "x"},
			[]string{"1-a.sql: is empty", "2-b.sql:1:1:"},
		},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			_, err := ReadDir(folder(c.files))
			if c.want == nil {
				require.NoError(t, err)
				return
			}
			var problems Problems
			require.True(t, errors.As(err, &problems), "%v", err)
			for _, want := range c.want {
				assert.ErrorContains(t, err, want)
			}
		})
	}
}

func TestAFileOver64MiBIsRefused(t *testing.T) {
	assert.Nil(t, CheckSize("1-a.sql", MaxFileSize))
	assert.ErrorContains(
		t,
		CheckSize("1-a.sql", MaxFileSize+1<<20),
		"1-a.sql: is 65.0 MiB; a step file may have 64 MiB",
	)
	_, problems := ReadFile("1-a.sql", bytes.Repeat([]byte("x"), MaxFileSize+1))
	assert.NotEmpty(t, problems)
}

func TestOptionsAreRead(t *testing.T) {
	text := "\n/*---\n# a comment\nmode: autocommit\nphase: contract\nonly: [staging, production]\nlock-timeout: 1m\n" +
		"statement-timeout: none\nblock-at-most: 3s\nretries: 0\naccept:\n  drops-column: nobody reads it since June\n" +
		"---*/\nDROP INDEX i;"
	file, problems := ReadFile("7-drop.sql", []byte(text))
	require.Empty(t, problems)
	o := file.Options
	assert.Equal(t, Autocommit, o.Mode)
	assert.Equal(t, Contract, o.Phase)
	assert.Equal(t, time.Minute, *o.LockTimeout)
	assert.Equal(t, time.Duration(0), *o.StatementTimeout)
	assert.Equal(t, 3*time.Second, *o.BlockAtMost)
	assert.Equal(t, 0, o.Retries)
	assert.Equal(t, []Acceptance{{"drops-column", "nobody reads it since June"}}, o.Accept)
	assert.True(t, o.In("staging"))
	assert.False(t, o.In("development"))

	_, problems = ReadFile("7-drop.sql", []byte("/*---\nblock-at-most: 10ms\n---*/\nDROP INDEX i;"))
	require.Len(t, problems, 1)
	assert.Equal(
		t,
		"7-drop.sql:2:16: block-at-most: 10ms is too short; write none, or 200ms or longer",
		problems[0].Error(),
	)

	plain, problems := ReadFile("8-plain.sql", []byte("/* no options */ SELECT 1;"))
	require.Empty(t, problems)
	assert.Equal(t, DefaultOptions(), plain.Options)
	assert.True(t, plain.Options.In("anywhere"))
}

// The checksum is that of the text with neither byte-order mark nor CRLF; for
// an ordinary file sha256sum prints the same.
func TestChecksumsDoNotDependOnLineEnds(t *testing.T) {
	read := func(text string) File {
		file, problems := ReadFile("1-a.sql", []byte(text))
		require.Empty(t, problems)
		return file
	}
	unix, windows := read("SELECT 1;\nSELECT 2;\n"), read("\ufeffSELECT 1;\r\nSELECT 2;\r\n")
	assert.Equal(t, unix.Checksum, windows.Checksum)
	assert.Equal(t, unix.Digest, unix.Checksum)
	assert.NotEqual(t, windows.Digest, windows.Checksum)
	assert.Equal(t, "SELECT 1;\nSELECT 2;\n", string(windows.Text()))
	assert.NotEqual(t, unix.Checksum, read("SELECT 1;\nSELECT 2;\n\n").Checksum)

	path := filepath.Join(t.TempDir(), "1-a.sql")
	require.NoError(t, os.WriteFile(path, unix.Bytes, 0o600))
	printed, err := exec.Command("sha256sum", path).Output()
	require.NoError(t, err)
	assert.Equal(t, string(printed[:hex.EncodedLen(32)]), string(unix.Checksum))
}

func FuzzReadFile(f *testing.F) {
	f.Add("/*---\nmode: autocommit\n---*/\nVACUUM;")
	f.Add("/*---\nonly: [a, {b: c}]\naccept: [x]\nlock-timeout: {a: b}\n---*/")
	f.Add("\ufeff\r\n/*---\n? [a]: b\n---*/")
	f.Fuzz(func(t *testing.T, text string) {
		file, problems := ReadFile("1-a.sql", []byte(text))
		if len(problems) > 0 {
			for _, p := range problems {
				require.NotEmpty(t, p.Message)
				require.LessOrEqual(t, p.Line, strings.Count(text, "\n")+2)
			}
			return
		}
		require.Len(t, file.Checksum, 64)
	})
}
