package service

import "strings"

// page is up to limit of a list that was read with one more, which tells that there is a next
// page; next is what that page is asked for by.
func page[T, K any](list []T, limit int, key func(T) K) (some []T, next K) {
	if len(list) <= limit {
		return list, next
	}
	return list[:limit], key(list[limit-1])
}

// mostRead is how many of a list are read at once to find those that the caller may look at.
const mostRead = 500

// lookable is up to limit of a list that the caller may look at, the newest first, and what the next page
// is asked for by; 0 where there is none. read gives those before one, or the newest before 0.
func lookable[T any](
	who caller, before int64, limit int, read func(before int64, most int) ([]T, error), place func(T) (lane, environment string),
	key func(T) int64,
) (list []T, next int64, err error) {
	most := limit + 1
	if !who.mayLookAtAll() {
		most = max(most, mostRead) // some of them are not shown
	}
	for {
		piece, err := read(before, most)
		if err != nil {
			return nil, 0, err
		}
		for _, one := range piece {
			if !who.mayLook(place(one)) {
				continue
			}
			if len(list) == limit {
				return list, key(list[limit-1]), nil
			}
			list = append(list, one)
		}
		if len(piece) < most {
			return list, 0, nil
		}
		before = key(piece[len(piece)-1])
	}
}

// contains reports whether a search stands in a text; upper and lower case are the same.
func contains(search, text string) bool {
	return strings.Contains(strings.ToLower(text), strings.ToLower(search))
}
