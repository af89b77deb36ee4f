package rehearsal

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"strings"
	"unicode"

	"vorrang/core/schema"
)

// Mask makes up values in the place of real ones. Equal values stay equal and different
// ones of one form stay different, so that keys and references hold; length, signs and
// the places of letters and digits stay. It cannot be undone once its key is gone.
type Mask struct{ key [32]byte }

// NewMask is one with a key of its own, that nobody keeps.
func NewMask() *Mask {
	m := &Mask{}
	_, _ = rand.Read(m.key[:]) // which never fails
	return m
}

// form is which values a type takes.
type form int

const (
	notMasked form = iota
	words
	number
	integer
	day
	hexadecimal
)

// formOf is the form of a data type, by the name that the standard gives it, and servers
// after it.
func formOf(dataType string) form {
	switch baseName(dataType) {
	case "text", "citext", "name", "character varying", "varchar", "character", "char", "bpchar", "clob",
		"tinytext", "mediumtext", "longtext":
		return words
	case "smallint", "integer", "bigint", "int", "tinyint", "mediumint":
		return integer
	case "numeric", "decimal", "real", "double precision", "double", "float":
		return number
	case "date", "timestamp", "timestamp without time zone", "timestamp with time zone", "datetime":
		return day
	case "uuid":
		return hexadecimal
	}
	return notMasked
}

// baseName is a data type without its length and sign.
func baseName(dataType string) string {
	name, _, _ := strings.Cut(strings.ToLower(dataType), "(")
	name = strings.TrimSuffix(strings.TrimSpace(name), " zerofill")
	return strings.TrimSuffix(name, " unsigned")
}

// Masks reports whether there are made-up values of a data type.
func Masks(dataType string) bool { return formOf(dataType) != notMasked }

// MaskError says that a column cannot be masked.
type MaskError struct {
	Of       string // whose schema it is
	Column   string
	DataType string // that has no made-up values; empty where there is no such column
}

func (e *MaskError) Error() string {
	if e.DataType == "" {
		return fmt.Sprintf("the column %s is to be masked, and %s has none of this name", e.Column, e.Of)
	}
	return fmt.Sprintf("the column %s is to be masked, and there are no made-up values of its type, %s", e.Column,
		e.DataType)
}

// MaskedColumns are the columns of a schema that are masked where some are named: these,
// and the same ones of partitions and of tables that inherit them, where rows stand. whose
// names the schema in a *MaskError.
func MaskedColumns(whose string, of schema.Schema, named []string) (map[string]bool, error) {
	heirs := map[string][]string{} // by table
	for _, o := range of.Objects {
		if o.Kind == schema.Table {
			for _, parent := range schema.List(o.Props[schema.Inherits]) {
				heirs[parent] = append(heirs[parent], o.Name)
			}
		}
	}
	columns, masked := schema.Columns(of), map[string]bool{}
	var mask func(table, local string)
	mask = func(table, local string) {
		for _, column := range columns[table] {
			if column.Local() == local {
				masked[column.Name] = true
			}
		}
		for _, heir := range heirs[table] {
			mask(heir, local)
		}
	}
	there := schema.ByKey(of)
	for _, name := range named {
		column := there[schema.KeyOf(schema.Column, name)] // its zero value is none
		dataType := column.Props[schema.DataType]
		if !Masks(dataType) {
			return nil, &MaskError{whose, name, dataType}
		}
		mask(column.Of, column.Local())
	}
	return masked, nil
}

// Value is the made-up value for a real one of a data type, as text.
func (m *Mask) Value(dataType, value string) string {
	switch formOf(dataType) {
	case words:
		return m.shifted(value, wordClass)
	case number:
		return m.shifted(value, digitClass)
	case integer:
		return m.shifted(within(dataType, value), digitClass)
	case hexadecimal:
		return m.shifted(strings.ToLower(value), hexClass)
	case day:
		return m.day(value)
	}
	return value
}

// within lowers an integer that is as long as its type allows, so that none of its length
// is too large.
func within(dataType, value string) string {
	longest := map[string]int{"smallint": 5, "integer": 10, "int": 10, "bigint": 19, "tinyint": 3, "mediumint": 7}
	sign, digits := "", value
	if strings.HasPrefix(value, "-") {
		sign, digits = "-", value[1:]
	}
	if len(digits) < longest[baseName(dataType)] {
		return value
	}
	return sign + "\x00" + digits[1:] // which stands for a 1
}

// A class gives the characters among which one is replaced, and none for one that stays.
// first is true for the first digit of a number, which does not become 0.
type class func(r rune, first bool) string

const (
	small   = "abcdefghijklmnopqrstuvwxyz"
	capital = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
	digits  = "0123456789"
)

func wordClass(r rune, _ bool) string {
	switch {
	case unicode.IsDigit(r):
		return digits
	case unicode.IsUpper(r):
		return capital
	case unicode.IsLetter(r):
		return small
	}
	return ""
}

func digitClass(r rune, first bool) string {
	switch {
	case r < '0' || r > '9' || first && r == '0':
		return ""
	case first:
		return digits[1:]
	}
	return digits
}

func hexClass(r rune, _ bool) string {
	if strings.ContainsRune("0123456789abcdef", r) {
		return "0123456789abcdef"
	}
	return ""
}

// shifted replaces each character by another one of its class. How far it is shifted
// depends on what stood before it, so that different values stay different.
func (m *Mask) shifted(value string, of class) string {
	var b strings.Builder
	seen := hmac.New(sha256.New, m.key[:])
	first := true
	for _, r := range value {
		if r == '\x00' {
			b.WriteByte('1')
			first = false
			continue
		}
		among := of(r, first)
		if among == "" {
			b.WriteRune(r)
			continue
		}
		first = false
		at := strings.IndexRune(among, r)
		if at < 0 {
			at = int(r) % len(among) // a letter of another alphabet
		}
		sum := seen.Sum(nil)
		b.WriteByte(among[(at+int(sum[0])<<8+int(sum[1]))%len(among)])
		seen.Write([]byte(string(r)))
	}
	return b.String()
}

// day shifts the month and the day of a date, of which 28 are in every month; the year
// and the time of day stay.
func (m *Mask) day(value string) string {
	if len(value) < len("2006-01-02") || value[4] != '-' || value[7] != '-' {
		return value // infinity, or a year of five digits
	}
	sum := hmac.New(sha256.New, m.key[:])
	sum.Write([]byte(value[:len("2006-01-02")]))
	by := sum.Sum(nil)
	two := func(n byte) string { return string([]byte{'0' + n/10, '0' + n%10}) }
	return value[:5] + two(1+by[0]%12) + "-" + two(1+by[1]%28) + value[len("2006-01-02"):]
}
