package main

import (
	"fmt"
	"slices"
	"strings"

	"vorrang/core/gate"
	"vorrang/core/lane"
	"vorrang/internal/plural"
)

// told is what is said of one environment, or alike of several targets of a fleet.
type told[T any] struct {
	places []string
	list   []T // what is said of each
}

// together puts what is said alike of a fleet's targets into one. said is what is said of a place, as far as it is not
// that place's alone; the place's own name in it does not count.
func together[T any](list []T, place, said func(T) string) (all []*told[T]) {
	for _, group := range lane.Alike(len(list), func(i int) (string, string) { return place(list[i]), said(list[i]) }) {
		t := &told[T]{}
		for _, i := range group {
			t.places, t.list = append(t.places, place(list[i])), append(t.list, list[i])
		}
		all = append(all, t)
	}
	return all
}

// example is what is said of all of them in the same words, or of the first one, with its name.
func (t told[T]) example(words func(T) string) string {
	said := make([]string, len(t.list))
	for i, one := range t.list {
		said[i] = words(one)
	}
	return gate.Example(t.places, said)
}

// named names places: an environment or one target as it is, several targets of a fleet by their number and the first
// few.
func named(places []string) string {
	var parts []string
	var fleets []string
	targets := map[string][]string{}
	for _, place := range places {
		fleet := lane.EnvironmentOf(place)
		if targets[fleet] = append(targets[fleet], place); !slices.Contains(fleets, fleet) {
			fleets = append(fleets, fleet)
		}
	}
	for _, fleet := range fleets {
		if some := targets[fleet]; len(some) == 1 {
			parts = append(parts, some[0])
		} else {
			parts = append(parts, fmt.Sprintf("%s (%s: %s)", fleet, plural.Of(len(some), "target"), gate.Some(some)))
		}
	}
	return strings.Join(parts, ", ")
}
