package catalog

import (
	"bytes"
	"strconv"
	"strings"

	"spindle/internal/core/object"
)

// conditions composes what a statement asks for, with its arguments: only what is
// asked for stands in it.
type conditions struct {
	terms []string
	args  []any
}

// where begins conditions of a statement that has args already, as $1 and on.
func where(args ...any) *conditions { return &conditions{args: args} }

// arg adds an argument and gives its place in the statement.
func (c *conditions) arg(v any) string {
	c.args = append(c.args, v)
	return "$" + strconv.Itoa(len(c.args))
}

// and adds a term; each ? in it is an argument.
func (c *conditions) and(term string, args ...any) *conditions {
	for _, a := range args {
		term = strings.Replace(term, "?", c.arg(a), 1)
	}
	c.terms = append(c.terms, "("+named(term)+")")
	return c
}

// when adds a term if it is asked for.
func (c *conditions) when(asked bool, term string, args ...any) *conditions {
	if asked {
		c.and(term, args...)
	}
	return c
}

// beneath asks for keys beneath a prefix; what has no key counts beneath the empty one.
func (c *conditions) beneath(column, prefix string) *conditions {
	return c.when(prefix != "", column+" >= ?", []byte(prefix)).when(prefix != "", column+" < ?", endOf(prefix))
}

// String gives the conditions for after "where".
func (c *conditions) String() string {
	if len(c.terms) == 0 {
		return "true"
	}
	return strings.Join(c.terms, " and ")
}

// endOf gives what is after all keys beneath a prefix, and after none that are not: a key, or
// what no key is above, so that a statement has a bound whatever the prefix is.
func endOf(prefix string) []byte {
	if s, ok := object.Successor(prefix); ok {
		return []byte(s)
	}
	return beyondKeys
}

// beyondKeys is longer than any key, which have at most 1,024 bytes.
var beyondKeys = bytes.Repeat([]byte{0xff}, object.MaxKey+1)
