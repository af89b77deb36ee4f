// Package review is what a look into a step's SQL found that a reviewer should know.
// An engine's dialect looks at each statement; the package runs nothing and knows no
// grammar.
package review
