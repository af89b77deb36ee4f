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

// contains reports whether a search stands in a text; upper and lower case are the same.
func contains(search, text string) bool {
	return strings.Contains(strings.ToLower(text), strings.ToLower(search))
}
