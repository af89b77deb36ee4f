package client

import "net/url"

// ListQuery says which of a list are wanted; an empty field means all. Lists by name go on after
// a name, lists whose newest come first before a number.
type ListQuery struct {
	Search string // stands in one of the texts that a person knows it by
	After  string // Next of the page before, in a list by name
	Before int64  // Next of the page before, in a list whose newest come first
	Limit  int    // the service's own where it is 0
}

// values is a query's part of an address.
func (q ListQuery) values() url.Values {
	return texts(pageQuery(q.Before, q.Limit), map[string]string{"search": q.Search, "after": q.After})
}
