// Package visible shows characters that a terminal, a log or a page would act on
// instead of showing them. Text that somebody else wrote must not move the cursor,
// colour a row, or turn the order of what is read around.
package visible

import (
	"fmt"
	"reflect"
	"strings"
	"unicode/utf8"
)

// Hidden reports whether a character is acted on and not shown: control
// characters but line feed and tab, and those that set the direction of text.
//
// Source: Unicode Technical Report 36 and 55 (source code handling)
func Hidden(r rune) bool {
	switch {
	case r == '\n', r == '\t':
		return false
	case r < 0x20, r >= 0x7f && r < 0xa0:
		return true
	case r == 0x061c, r == 0x200e, r == 0x200f, r >= 0x2028 && r <= 0x202e, r >= 0x2066 && r <= 0x2069:
		return true
	}
	return false
}

// Text writes hidden characters as cat -v does, and those of Unicode by their
// number.
func Text(text string) string {
	if strings.IndexFunc(text, Hidden) < 0 && utf8.ValidString(text) {
		return text
	}
	var b strings.Builder
	for _, r := range text {
		switch {
		case !Hidden(r):
			b.WriteRune(r)
		case r < 0x20:
			b.WriteString("^" + string(r+'@'))
		case r == 0x7f:
			b.WriteString("^?")
		case r < 0xa0:
			b.WriteString("M-^" + string(r-0x80+'@'))
		default:
			fmt.Fprintf(&b, "<U+%04X>", r)
		}
	}
	return b.String()
}

// In does the same to every text within what a pointer leads to; fields with the
// tag raw stay as they are.
func In(pointer any) { in(reflect.ValueOf(pointer)) }

func in(v reflect.Value) {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			in(v.Elem())
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if field := v.Type().Field(i); field.IsExported() && field.Tag.Get("raw") == "" {
				in(v.Field(i))
			}
		}
	case reflect.Slice, reflect.Array:
		if v.Type().Elem().Kind() == reflect.Uint8 {
			return // bytes are no text
		}
		for i := range v.Len() {
			in(v.Index(i))
		}
	case reflect.Map:
		for _, key := range v.MapKeys() {
			value := reflect.New(v.Type().Elem()).Elem()
			value.Set(v.MapIndex(key))
			in(value)
			v.SetMapIndex(key, value)
		}
	case reflect.String:
		if v.CanSet() {
			v.SetString(Text(v.String()))
		}
	}
}
