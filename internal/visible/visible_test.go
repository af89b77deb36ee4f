package visible

import (
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
)

func TestWhatWouldBeActedOnIsShown(t *testing.T) {
	for text, want := range map[string]string{
		"North quay":                   "North quay",
		"two\nlines\tand a tab":        "two\nlines\tand a tab",
		"\x1b[31mred\x1b[0m":           "^[[31mred^[[0m",
		"\x1b]0;title\x07":             "^[]0;title^G",
		"over\rwritten":                "over^Mwritten",
		"gone\x7f":                     "gone^?",
		"\u009b31m":                    "M-^[31m",
		"/*\u202e } \u2066if \u2069*/": "/*<U+202E> } <U+2066>if <U+2069>*/",
		"Hafen 港湾 é":                   "Hafen 港湾 é",
	} {
		assert.Equal(t, want, Text(text))
	}
}

func TestEveryTextWithinIsShown(t *testing.T) {
	type inner struct {
		Name string
		SQL  string `raw:"true"`
	}
	value := struct {
		List  []inner
		Words map[string]string
		Of    *inner
		At    time.Time
		Bytes []byte
	}{[]inner{{"a\x1b", "b\x1b"}}, map[string]string{"k": "\x07"}, &inner{Name: "\x08"}, time.Now(), []byte("\x1b")}
	In(&value)
	assert.Equal(t, inner{"a^[", "b\x1b"}, value.List[0])
	assert.Equal(t, "^G", value.Words["k"])
	assert.Equal(t, "^H", value.Of.Name)
	assert.Equal(t, []byte("\x1b"), value.Bytes)
}

func FuzzText(f *testing.F) {
	f.Add("\x1b[0m\u202e")
	f.Fuzz(func(t *testing.T, text string) {
		shown := Text(text)
		assert.Negative(t, strings.IndexFunc(shown, Hidden))
		assert.True(t, utf8.ValidString(shown) || !utf8.ValidString(text))
	})
}
