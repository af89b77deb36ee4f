package client

import (
	"fmt"
	"net/http"
	"strings"

	"vorrang/internal/advice"
	"vorrang/service/api"
)

// Client calls one service. It is safe for concurrent use.
type Client struct {
	Server string // such as http://127.0.0.1:7340
	Token  string
	Actor  string // who you are; is in the ledger beside what you do
	HTTP   *http.Client

	// Password gives the caller's own password, where the service asks them to show
	// who they are; nil for none.
	Password func() (string, error)

	// Shown is given a pointer to each answer, and to each event, before the caller
	// gets it; nil for nothing.
	Shown func(any)
}

// New returns a client for a server's address.
func New(server, token, actor string) *Client {
	return &Client{Server: strings.TrimRight(server, "/"), Token: token, Actor: actor, HTTP: &http.Client{}}
}

// Error is what the service answered instead of a result.
type Error struct{ api.Problem }

func (e *Error) Error() string {
	text := e.Detail
	if text == "" {
		text = e.Title
	}
	if next := e.Next(); next != "" {
		text += "\n" + next
	}
	return text
}

// Next says what to do, with command lines of the client; empty where nothing is known.
func (e *Error) Next() string { return advice.Text(e.Remedies) }

// Kind is the last part of the problem's type, such as held or not-found.
func (e *Error) Kind() string { return strings.TrimPrefix(e.Type, "urn:vorrang:") }

// UnreachableError says that the service did not answer at all.
type UnreachableError struct {
	Server string
	Err    error
}

func (e *UnreachableError) Error() string {
	return fmt.Sprintf(
		"the service at %s does not answer (%v); is vorrangd running there? -server or VORRANG_SERVER names another address",
		e.Server, e.Err,
	)
}

func (e *UnreachableError) Unwrap() error { return e.Err }
