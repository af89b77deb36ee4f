// Package client is the typed Go client of Vorrang's API.
//
// A server's address and a token go in; each method is one operation of the
// API. Errors that the service answered are *Error, and hold its problem+json.
// Methods block until the service has answered, and may be repeated unless they
// say otherwise.
package client
