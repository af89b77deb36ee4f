// Package remedy is what can be done about something that is wrong, as data: an act,
// what it is done to, and why. Whoever talks to people words it: the client as a
// command line, the console as a button.
package remedy
