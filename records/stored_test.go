package records

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"testing"
	"time"

	"vorrang/core/deploy"
	"vorrang/core/gate"
	"vorrang/core/lane"
	"vorrang/core/plan"
	"vorrang/core/rehearsal"
	"vorrang/core/release"
	"vorrang/core/review"
	"vorrang/core/schema"
	"vorrang/core/step"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// storedVersion is the version of the form in which values are kept as JSON. Records
// outlive the programs that write them: a change of a form that makes values of an
// earlier one mean something else takes a new version, and a step in steps/ that turns
// what is kept into it. testdata/stored has an example of each form, of each version.
const storedVersion = 1

// stored are the values that are kept as JSON, by the columns that keep them.
var stored = map[string]any{
	"lane.declaration":   lane.Lane{},
	"step.options":       step.Options{},
	"step.forward":       plan.Text{},
	"deployment.plan":    plan.Plan{},
	"deployment.gate":    gate.Result{},
	"deployment.failure": deploy.Failure{},
	"event.body":         deploy.Event{},
	"release.body":       release.Release{},
	"signature.body":     release.Signature{},
	"approval.steps":     []gate.Planned{},
	"snapshot.schema":    schema.Schema{},
	"rehearsal.body":     rehearsal.Result{},
	"usage.body":         review.Uses{},
	"scheduled.wish":     ScheduledRequest{},
	"scheduled.who":      Identity{},
}

var update = flag.Bool("update", false, "write the examples of the newest form again")

// TestWhatIsKeptIsReadForEver holds the form of each value that is kept as JSON
// against its example, and reads the examples of all versions. Where it fails since a
// field came in that may be absent, write the example again with -update; where a value
// means something else now, see storedVersion.
func TestWhatIsKeptIsReadForEver(t *testing.T) {
	folder := func(version int) string { return filepath.Join("testdata", "stored", fmt.Sprint(version)) }
	for name, value := range stored {
		full := reflect.New(reflect.TypeOf(value))
		fill(t, full.Elem(), name, nil)
		text, err := json.MarshalIndent(full.Interface(), "", "  ")
		require.NoError(t, err, name)
		file := filepath.Join(folder(storedVersion), name+".json")
		if *update {
			require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
			require.NoError(t, os.WriteFile(file, append(text, '\n'), 0o644))
		}
		example, err := os.ReadFile(file)
		require.NoError(t, err, name)
		assert.Equal(t, string(example), string(text)+"\n", "the form of %s is not what is kept already", name)
		back := reflect.New(reflect.TypeOf(value))
		require.NoError(t, json.Unmarshal(example, back.Interface()), name)
		again, err := json.MarshalIndent(back.Interface(), "", "  ")
		require.NoError(t, err, name)
		assert.Equal(t, string(text), string(again), "%s loses something on its way into the records and back", name)
	}
	for version := 1; version <= storedVersion; version++ {
		files, err := filepath.Glob(filepath.Join(folder(version), "*.json"))
		require.NoError(t, err)
		assert.NotEmpty(t, files)
		for _, file := range files {
			value, known := stored[filepath.Base(file[:len(file)-len(".json")])]
			require.True(t, known, "%s: nothing is kept so any more; a step turned it into what?", file)
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			require.NoError(t, json.Unmarshal(text, reflect.New(reflect.TypeOf(value)).Interface()), file)
		}
	}
}

// fill gives every field a value that is not its zero value.
func fill(t *testing.T, v reflect.Value, path string, within []reflect.Type) {
	switch v.Interface().(type) {
	case time.Time:
		v.Set(reflect.ValueOf(time.Date(2026, 11, 26, 6, 0, 0, 123456000, time.UTC)))
		return
	case json.RawMessage:
		v.SetBytes([]byte(`{"kept":true}`))
		return
	}
	switch v.Kind() {
	case reflect.String:
		v.SetString("kept")
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		v.SetInt(7)
	case reflect.Uint8, reflect.Uint, reflect.Uint64:
		v.SetUint(7)
	case reflect.Float64:
		v.SetFloat(0.5)
	case reflect.Pointer:
		if slices.Contains(within, v.Type().Elem()) {
			return // it may hold one of its own kind, and here does not
		}
		v.Set(reflect.New(v.Type().Elem()))
		fill(t, v.Elem(), path, within)
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 1, 1))
		fill(t, v.Index(0), path, within)
	case reflect.Map:
		key, value := reflect.New(v.Type().Key()).Elem(), reflect.New(v.Type().Elem()).Elem()
		fill(t, key, path, within)
		fill(t, value, path, within)
		v.Set(reflect.MakeMap(v.Type()))
		v.SetMapIndex(key, value)
	case reflect.Struct:
		for i := range v.NumField() {
			if field := v.Type().Field(i); field.IsExported() && field.Tag.Get("json") != "-" {
				fill(t, v.Field(i), path+"."+field.Name, append(within, v.Type()))
			}
		}
	default:
		require.Fail(t, "a "+v.Kind().String()+" is kept as JSON: "+path)
	}
}
