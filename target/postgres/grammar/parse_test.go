package grammar

import (
	"math/rand/v2"
	"strings"
	"testing"

	"vorrang/core/sqltext"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// chains are ways to make a tree as deep as one likes: what stands before, the
// part that is repeated, and what stands after, repeated as often.
var chains = map[string][3]string{
	"plus":                   {"SELECT 1", "+1", ""},
	"strings":                {"SELECT 'a'", " || 'b'", ""},
	"casts":                  {"SELECT 1", "::int", ""},
	"subscripts":             {"SELECT a", "[1]", ""},
	"brackets":               {"SELECT ", "(", ")"},
	"arrays":                 {"SELECT ARRAY", "[", "]"},
	"not":                    {"SELECT ", "NOT ", ""},
	"minus":                  {"SELECT ", "- ", ""},
	"collate":                {"SELECT a", ` COLLATE "C"`, ""},
	"zones":                  {"SELECT a", " AT TIME ZONE 'x'", ""},
	"is null":                {"SELECT a", " IS NULL", ""},
	"and, bracketed":         {"SELECT a", " AND (a", ")"},
	"cross joins":            {"SELECT FROM a", " CROSS JOIN a", ""},
	"joins with conditions":  {"SELECT FROM a", " JOIN a ON a AND b", ""},
	"joins in lists":         {"SELECT FROM a", " JOIN a USING (a, b)", ""},
	"natural joins":          {"SELECT FROM a", " NATURAL JOIN a", ""},
	"unions":                 {"SELECT 1", " UNION ALL SELECT 1", ""},
	"unions of lists":        {"SELECT 1,2", " UNION ALL SELECT 1,2", ""},
	"unions with conditions": {"SELECT 1 WHERE a AND b", " EXCEPT SELECT 1 WHERE a OR b", ""},
	"case in then":           {"SELECT ", "CASE WHEN 1 THEN ", " END"},
	"case in else":           {"SELECT ", "CASE WHEN a AND b THEN 1 ELSE ", " END"},
	"case in when":           {"SELECT ", "CASE WHEN ", " THEN 1 END"},
	"functions":              {"SELECT ", "f(1, ", ")"},
	"subqueries":             {"SELECT ", "(SELECT 1, ", ")"},
	"in":                     {"SELECT a", " IN (a, b", ")"},
	"with":                   {"", "WITH a AS (", "SELECT 1) SELECT 1"},
	"rows":                   {"SELECT ", "ROW(1, ", ")"},
	"between":                {"SELECT a", " BETWEEN 1 AND (a", ")"},
	"any":                    {"SELECT a", " = ANY (a", ")"},
	"lists":                  {"SELECT 1", ",1", ""},
	"values":                 {"VALUES (1)", ",(1)", ""},
	"conditions":             {"SELECT a", " AND a OR a", ""},
	"statements":             {"CREATE FUNCTION f() RETURNS int BEGIN ATOMIC SELECT 1;", " SELECT 1;", ""},
}

// TestNothingDeepEndsTheProcess: the grammar's C code walks over a tree by
// recursion, where no stack is deep enough; a test binary that ends here would
// say so.
func TestNothingDeepEndsTheProcess(t *testing.T) {
	for name, c := range chains {
		t.Run(name, func(t *testing.T) {
			for _, n := range []int{3000, 30_000} {
				text := c[0] + strings.Repeat(c[1], n) + "1" + strings.Repeat(c[2], n)
				_, _ = Parse(sqltext.Statement{SQL: []byte(text)}) // no answer is right or wrong here
				statements, err := Cut([]byte(text))
				if err == nil {
					assert.NotEmpty(t, statements)
				}
			}
		})
	}
	t.Run("mixed", func(t *testing.T) {
		names := make([]string, 0, len(chains))
		for name := range chains {
			names = append(names, name)
		}
		random := rand.New(rand.NewPCG(1, 2))
		for range 20 {
			text, behind := "SELECT ", ""
			for range 1 + random.IntN(400) {
				c := chains[names[random.IntN(len(names))]]
				n := 1 + random.IntN(60)
				text += strings.Repeat(c[1], n)
				behind = strings.Repeat(c[2], n) + behind
			}
			_, _ = Parse(sqltext.Statement{SQL: []byte(text + "1" + behind)})
		}
	})
}

func TestWhatIsNotDeepIsParsed(t *testing.T) {
	for name, text := range map[string]string{
		"a long list":     "SELECT 1" + strings.Repeat(", 1 + 1", 20_000),
		"many rows":       "INSERT INTO a VALUES (1, 'x')" + strings.Repeat(", (1, f(2, 3))", 20_000),
		"many conditions": "SELECT 1 WHERE a = 1" + strings.Repeat(" OR a = 2 AND b < 3", 20_000),
		"a case of many":  "SELECT CASE" + strings.Repeat(" WHEN a = 1 THEN b + 1", 20_000) + " END",
		"a table of columns": "CREATE TABLE a (id int" + strings.Repeat(", c int NOT NULL DEFAULT (1 + 2) "+
			"CHECK (c > 0)", 15_000) + ")",
		"some joins": "SELECT FROM a" + strings.Repeat(" LEFT JOIN b ON a.id = b.id AND b.x > 1", 150),
	} {
		_, err := Parse(sqltext.Statement{SQL: []byte(text)})
		require.NoError(t, err, name)
	}
	for text, message := range map[string]string{
		"SELECT 1" + strings.Repeat(" + 1", 5000):  "the statement is nested too deep to be reviewed",
		"SELECT 1" + strings.Repeat("+1", 300_000): "the statement is nested too deep to be reviewed",
		"SELECT '" + strings.Repeat("a", 2<<20) + "'": "the statement is longer than 1024 KiB, which is too long to " +
			"be reviewed",
		"SELECT 1 2 3": `syntax error at or near "2"`,
	} {
		_, err := Parse(sqltext.Statement{SQL: []byte(text)})
		var unparsed *Unparsed
		require.ErrorAs(t, err, &unparsed)
		assert.Equal(t, message, unparsed.Message)
	}
}

func FuzzParse(f *testing.F) {
	for _, c := range chains {
		f.Add(c[0], c[1], c[2], 100)
	}
	f.Fuzz(func(_ *testing.T, before, part, behind string, n int) {
		n = max(0, min(n, 100_000, (2<<20)/max(len(part)+len(behind), 1)))
		text := []byte(before + strings.Repeat(part, n) + "1" + strings.Repeat(behind, n))
		_, _ = Parse(sqltext.Statement{SQL: text})
		_, _ = Cut(text)
	})
}

// BenchmarkCutOneLine is linear in the number of statements, though they all stand
// on one line.
func BenchmarkCutOneLine(b *testing.B) {
	text := []byte(strings.Repeat("SELECT 1;", 50_000))
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		if _, err := Cut(text); err != nil {
			b.Fatal(err)
		}
	}
}

// BenchmarkCutManyCopies is linear in the number of COPYs.
func BenchmarkCutManyCopies(b *testing.B) {
	text := []byte(strings.Repeat("COPY berth (id, name) FROM stdin;\n1\tNorth quay\n\\.\n", 2000))
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		if _, err := Cut(text); err != nil {
			b.Fatal(err)
		}
	}
}
