// Package grammar reads PostgreSQL's SQL: it cuts a text into statements and says
// what each is and leaves behind.
//
// The text of a file goes in; sqltext.Statements come out, in order, each with its
// place. Tokens come from the server's own scanner, so that strings, dollar quotes,
// nested comments and BEGIN ATOMIC bodies end where the server says. Trees come from
// its grammar, in a process of its own. The package runs no SQL and asks no server.
package grammar
