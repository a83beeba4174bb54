// Package fault has the one error type of Spindle.
//
// An error that reaches a person says what was wrong, where, and what to do
// next. Error carries those as fields: a stable Code for programs, a Kind that
// each face maps to its own form (an HTTP status on the desk, an error code in
// the wire's dialect, an exit code on the command line), the Field at fault,
// a Message and a Remedy.
//
// The rules: an error is wrapped once, where context is added; it is never
// both logged and returned; a cause that is not for the person (a database
// message, a path) stays in Err and goes to the log only.
package fault
