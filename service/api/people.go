package api

import (
	"time"

	"vorrang/core/access"
)

// Session is who is signed in, and what they may.
type Session struct {
	Name      string        `json:"name"`
	Via       string        `json:"via,omitempty" description:"How they proved who they are."`
	Person    bool          `json:"person" description:"False for machines, and for the holder of the administrator's token: they approve and waive nothing."`
	Grants    access.Grants `json:"grants" nullable:"false"`
	Token     string        `json:"token,omitempty" description:"A new token, where one was asked for. It is shown once."`
	ExpiresAt *time.Time    `json:"expires_at,omitempty" description:"Of the token."`
}

// WaysIn says how one can sign in, beside name and password.
type WaysIn struct {
	Token  bool   `json:"token" description:"With the administrator's token."`
	OpenID string `json:"openid,omitempty" description:"The OpenID Connect provider, where there is one: /api/v1/session/openid leads to it."`
}

// SignIn asks for a session cookie, or for a token.
type SignIn struct {
	Name     string `json:"name" maxLength:"100" description:"Who you are; is shown in the ledger beside what you do."`
	Password string `json:"password,omitempty" secret:"true" maxLength:"1000"`
	Token    string `json:"token,omitempty" secret:"true" maxLength:"1000" description:"The administrator's, instead of a password."`
	Machine  string `json:"machine,omitempty" maxLength:"100" description:"Whose programs sign in: the answer then holds a token, and no cookie is set."`
}

// People is everybody who may sign in.
type People struct {
	People []access.Person `json:"people" nullable:"false"`
	Next   string          `json:"next,omitempty" description:"Where there are more: what the next page is asked for by after."`
}

// Tokens is every token that was not revoked, newest first.
type Tokens struct {
	Tokens []access.Token `json:"tokens" nullable:"false"`
	Next   int64          `json:"next,omitempty" description:"Where there are more: what the next page is asked for by before."`
}

// TokenMade is a new token.
type TokenMade struct {
	access.Token
	Text string `json:"text" description:"The token itself. It is shown once."`
}

// Audit is who did what, newest first.
type Audit struct {
	Acts []access.AuditEntry `json:"acts" nullable:"false"`
	Next int64               `json:"next,omitempty" description:"Where there are more: what the next page is asked for by before."`
}
