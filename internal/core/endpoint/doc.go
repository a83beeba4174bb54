// Package endpoint says what an endpoint is: another store that speaks the wire's
// dialect, with the key that we have there, how it stands, and what it can do. Nothing
// here reaches it.
package endpoint
