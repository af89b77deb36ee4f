package service

import (
	"bytes"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/gofiber/fiber/v3"
)

// bind fills a handler's input from a request: path, query and JSON body. What
// the field's tags say of it, and the API document repeats, is enforced here and
// nowhere else: default, required, enum, minimum, maximum, minLength, maxLength.
// A value that does not fit is an error that names the field; so is a parameter or a field that nothing would
// come of.
func bind(c fiber.Ctx, in any) error {
	value := reflect.ValueOf(in).Elem()
	body := false
	given := map[string]bool{}
	for i := range value.NumField() {
		field := value.Type().Field(i)
		name, from := field.Tag.Get("path"), c.Params(field.Tag.Get("path"))
		if name == "" {
			name = field.Tag.Get("query")
			from = c.Query(name)
		}
		if name == "" {
			body = body || field.Tag.Get("json") != ""
			continue
		}
		given[name] = from != ""
		if from == "" {
			from = field.Tag.Get("default")
		}
		if strings.ContainsRune(from, 0) {
			return badRequest(nil, "%s: a NUL byte cannot stand there", name)
		}
		if err := set(value.Field(i), from); err != nil {
			return badRequest(nil, "%s: %q is not %s", name, shortly(from), err)
		}
	}
	if err := known(c, value.Type(), in); err != nil {
		return err
	}
	if body {
		if err := bindBody(c.Body(), in, given); err != nil {
			return err
		}
	}
	return enforce(value, given)
}

// addedTo is an input whose query another program writes, and may add to.
type addedTo interface{ addedTo() }

// known refuses parameters of the query that nobody reads: a mistyped one would have more answered, or something
// else, than was asked for.
func known(c fiber.Ctx, input reflect.Type, in any) error {
	if _, any := in.(addedTo); any {
		return nil
	}
	var names []string
	for i := range input.NumField() {
		if name := input.Field(i).Tag.Get("query"); name != "" {
			names = append(names, name)
		}
	}
	for name := range c.Queries() {
		if slices.Contains(names, name) {
			continue
		}
		if len(names) == 0 {
			return badRequest(by("leave it out"), "%s: nothing is asked for in the query here", shortly(name))
		}
		return badRequest(by("it may be %s; a program that is newer than this service may know more", choice(strings.Join(names, ","))), "%s: there is no such parameter", shortly(name))
	}
	return nil
}

func bindBody(text []byte, in any, given map[string]bool) error {
	if len(text) == 0 {
		return nil
	}
	next := by("see /api/openapi.json for what it may hold")
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(in); err != nil {
		return badRequest(next, "the body: %s", shortly(strings.TrimPrefix(err.Error(), "json: ")))
	}
	if decoder.More() {
		return badRequest(next, "the body: something follows its JSON object")
	}
	var fields map[string]json.RawMessage
	if err := json.Unmarshal(text, &fields); err != nil {
		return badRequest(next, "the body: it is not a JSON object")
	}
	for name, value := range fields {
		given[name] = string(value) != "null"
	}
	return nil
}

// nameOf is the name that a field has in a request.
func nameOf(field reflect.StructField) string {
	for _, from := range []string{"path", "query", "json"} {
		if name, _, _ := strings.Cut(field.Tag.Get(from), ","); name != "" {
			return name
		}
	}
	return ""
}

// enforce checks each field against its tags.
func enforce(value reflect.Value, given map[string]bool) error {
	for i := range value.NumField() {
		field := value.Type().Field(i)
		name := nameOf(field)
		switch {
		case name == "":
		case !given[name] && field.Tag.Get("required") == "true" && field.Tag.Get("path") == "":
			return badRequest(nil, "%s: it is needed%s", name, described(field))
		case given[name]:
			if err := fits(value.Field(i), field.Tag); err != nil {
				return badRequest(nil, "%s: %s", name, err)
			}
		}
	}
	return nil
}

func described(field reflect.StructField) string {
	if about := field.Tag.Get("description"); about != "" {
		return ": " + strings.TrimSuffix(about, ".")
	}
	return ""
}

// fits says how a value breaks the rules of its tags.
func fits(value reflect.Value, tag reflect.StructTag) error {
	switch value.Kind() {
	case reflect.String:
		return fitsText(value.String(), tag)
	case reflect.Int, reflect.Int64:
		n := value.Int()
		if least, err := strconv.ParseInt(tag.Get("minimum"), 10, 64); err == nil && n < least {
			return fmt.Errorf("%d is less than %d, the least", n, least)
		}
		if most, err := strconv.ParseInt(tag.Get("maximum"), 10, 64); err == nil && n > most {
			return fmt.Errorf("%d is more than %d, the most", n, most)
		}
	case reflect.Slice:
		for i := range value.Len() {
			if value.Index(i).Kind() == reflect.String {
				if err := fitsText(value.Index(i).String(), tag); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// mostText is how long a text may be that says nothing of its own, in characters.
const mostText = 100_000

func fitsText(text string, tag reflect.StructTag) error {
	if words := tag.Get("enum"); words != "" && !slices.Contains(strings.Split(words, ","), text) {
		return fmt.Errorf("it is %s, not %q", choice(words), shortly(text))
	}
	length := utf8.RuneCountInString(text)
	if least, err := strconv.Atoi(tag.Get("minLength")); err == nil && length < least {
		if least == 1 {
			return fmt.Errorf("it must not be empty")
		}
		return fmt.Errorf("it must have %d characters or more", least)
	}
	most, err := strconv.Atoi(tag.Get("maxLength"))
	if err != nil {
		most = mostText
	}
	if length > most {
		return fmt.Errorf("it may have %d characters at most", most)
	}
	return nil
}

// choice writes "a,b,c" as "a, b or c".
func choice(words string) string {
	list := strings.Split(words, ",")
	last := len(list) - 1
	if last == 0 {
		return words
	}
	return strings.Join(list[:last], ", ") + " or " + list[last]
}

// shortly is the beginning of a value that was sent.
func shortly(text string) string {
	const most = 100 // characters
	if utf8.RuneCountInString(text) <= most {
		return text
	}
	return string([]rune(text)[:most]) + "…"
}

func set(field reflect.Value, text string) error {
	if text == "" {
		return nil
	}
	switch field.Kind() {
	case reflect.String:
		field.SetString(text)
	case reflect.Int, reflect.Int64:
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return fmt.Errorf("a whole number")
		}
		field.SetInt(n)
	case reflect.Bool:
		b, err := strconv.ParseBool(text)
		if err != nil {
			return fmt.Errorf("true or false")
		}
		field.SetBool(b)
	default:
		return fmt.Errorf("of a kind that can stand there")
	}
	return nil
}
