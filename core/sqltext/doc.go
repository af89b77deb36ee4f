// Package sqltext is SQL text as the rules know it: statements with their places,
// what they leave in a session, what an edit of a text amounts to.
//
// It knows no server's grammar. An engine's dialect cuts a file's text into
// Statements and says what each is; the package runs nothing and changes no byte.
package sqltext
