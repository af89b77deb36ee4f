package grammar_test

import (
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/internal/pgtest"
	"vorrang/target/postgres/grammar"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

// The oracle is psql: what the server logs that it was sent is what Cut gives.
func TestCutGivesWhatPsqlSends(t *testing.T) {
	url := pgtest.Database(t)
	command := exec.Command(
		"/usr/lib/postgresql/15/bin/psql",
		"-X", "-q", "-v", "ON_ERROR_STOP=1", url, "-f", "testdata/odd.sql",
	)
	command.Env = append(os.Environ(), "PGAPPNAME=oracle")
	output, err := command.CombinedOutput()
	require.NoError(t, err, "%s", output)

	text, err := os.ReadFile("testdata/odd.sql")
	require.NoError(t, err)
	statements, err := grammar.Cut(text)
	require.NoError(t, err)
	var ours []string
	for _, s := range statements {
		ours = append(ours, string(s.SQL))
	}
	assert.Equal(t, logged(pgtest.Shared(t).Log(t), "SELECT 'it''s; not'"), ours)
	assert.Equal(t, "7", pgtest.Query(t, url, "SELECT count(*) FROM odd"))
}

var prefix = regexp.MustCompile(`^(\d+)\|LOG:  statement: (.*)$`)

// logged returns the statements of the session that sent some text, as they
// stand in the server's log: a line that goes on begins with a tab.
func logged(log, text string) []string {
	sessions := map[string][]string{}
	session, wanted := "", ""
	for line := range strings.Lines(log) {
		line = strings.TrimRight(line, "\n")
		if goesOn, found := strings.CutPrefix(line, "\t"); found && session != "" {
			last := len(sessions[session]) - 1
			sessions[session][last] += "\n" + goesOn
		} else if m := prefix.FindStringSubmatch(line); m != nil {
			session = m[1]
			sessions[session] = append(sessions[session], m[2])
		} else {
			session = ""
		}
		if strings.Contains(line, text) {
			wanted = session
		}
	}
	var list []string
	for _, statement := range sessions[wanted] {
		if statement = strings.TrimSuffix(bare(statement), ";"); statement != "" {
			list = append(list, statement)
		}
	}
	return list
}

// bare drops the comments before a statement, which psql sends along.
func bare(statement string) string {
	for {
		statement = strings.TrimSpace(statement)
		switch {
		case strings.HasPrefix(statement, "--"):
			_, statement, _ = strings.Cut(statement, "\n")
		case strings.HasPrefix(statement, "/*"):
			_, statement, _ = strings.Cut(statement, "*/")
		default:
			return statement
		}
	}
}
