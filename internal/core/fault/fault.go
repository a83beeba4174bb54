package fault

import (
	"errors"
	"fmt"
	"time"
)

// Kind says what sort of trouble an Error is. Faces map kinds, not codes, to
// HTTP statuses and exit codes.
type Kind uint8

// The kinds. Internal is the zero value: what nobody classified is our fault.
const (
	Internal     Kind = iota // a defect or a broken part of the machine
	Invalid                  // the request is malformed or out of bounds
	Unsigned                 // who asks could not be established
	Refused                  // who asks may not do this
	NotFound                 // the thing named does not exist
	Conflict                 // the state of things does not allow it
	Precondition             // a condition the caller set does not hold
	TooLarge                 // more bytes than a limit allows
	Full                     // a quota or a disk has no room
	Unavailable              // a part is down; the same request may work later
	Unfinished               // not implemented
	Damaged                  // stored bytes do not match their digest
	Slow                     // the other end sent or took too little in time
)

var kindNames = [...]string{"internal", "invalid", "unsigned", "refused", "not-found", "conflict",
	"precondition", "too-large", "full", "unavailable", "not-implemented", "damaged", "slow"}

// String gives the kind's name in lower case.
func (k Kind) String() string { return kindNames[k] }

// Error is what was wrong, where, and what to do next.
type Error struct {
	Code    string // stable, lower case with hyphens, for programs
	Kind    Kind
	Field   string // the name of the field, header, flag or key at fault; may be empty
	Message string // one sentence for a person, without a full stop at the end
	Remedy  string // what to do next; may be empty
	Err     error  // the cause, for the log; may be nil

	Place   string        // where on the service's machine, for its log and its operators; may be empty
	After   time.Duration // for how long it is of no use to ask again; 0: not known
	Request string        // the id of the request that failed elsewhere, by which its log names it; "" for none

	At *int // where in a text the fault is, in bytes; nil: nowhere in a text
}

// Error gives the message, with field, place and cause.
func (e *Error) Error() string {
	s := e.Message
	if e.Field != "" {
		s = e.Field + ": " + s
	}
	if e.Place != "" {
		s += " (" + e.Place + ")"
	}
	if e.Err != nil {
		s += ": " + e.Err.Error()
	}
	return s
}

// Unwrap gives the cause.
func (e *Error) Unwrap() error { return e.Err }

// Is reports whether target is an Error of the same code, so that
// errors.Is(err, fault.New(kind, "code", "")) finds it in a chain.
func (e *Error) Is(target error) bool {
	t, ok := target.(*Error)
	return ok && t.Code == e.Code
}

// New makes an Error of a kind, a code and a message.
func New(kind Kind, code, format string, args ...any) *Error {
	return &Error{Kind: kind, Code: code, Message: fmt.Sprintf(format, args...)}
}

// Revision refuses a change of what is at another revision than the one that was asked for; 0 asks for any. What it
// is called stands with its article, as "the tier". The error has the code revision.
func Revision(what string, is, asked int) error {
	if asked == 0 || asked == is {
		return nil
	}
	return New(Precondition, "revision", "%s is at revision %d now", what, is).In("revision").
		Do("read it again and repeat the change on what is there now")
}

// In names the field at fault and returns e.
func (e *Error) In(field string) *Error { e.Field = field; return e }

// Do names the remedy and returns e.
func (e *Error) Do(format string, args ...any) *Error {
	e.Remedy = fmt.Sprintf(format, args...)
	return e
}

// Because keeps the cause for the log and returns e.
func (e *Error) Because(err error) *Error { e.Err = err; return e }

// On keeps where on the service's machine it was, which clients are not told, and returns e.
func (e *Error) On(place string) *Error { e.Place = place; return e }

// Again says for how long it is of no use to ask again and returns e.
func (e *Error) Again(after time.Duration) *Error { e.After = after; return e }

// From finds the Error in err's chain. What has none becomes an Internal error
// with the code "internal" whose cause is err.
func From(err error) *Error {
	var e *Error
	if errors.As(err, &e) {
		return e
	}
	return New(Internal, "internal", "something went wrong inside the service").
		Do("try again; the service's log has the cause").Because(err)
}

// All finds every Error that err joins (errors.Join), in order; one when it joins none.
func All(err error) []*Error {
	if joined, ok := err.(interface{ Unwrap() []error }); ok {
		var out []*Error
		for _, e := range joined.Unwrap() {
			out = append(out, All(e)...)
		}
		return out
	}
	return []*Error{From(err)}
}

// KindOf gives the kind of err, Internal when it is not classified.
func KindOf(err error) Kind { return From(err).Kind }

// HasCode reports whether err carries an Error with this code.
func HasCode(err error, code string) bool {
	var e *Error
	return errors.As(err, &e) && e.Code == code
}
