// Package charter compares what files declare with what is there, and says in which steps
// the one becomes the other. It knows nothing of what is declared: a thing has a kind, a
// name and fields, as documents in JSON have them.
//
// A field that is not declared is left alone, whatever it is; one that is declared is
// compared with all that is in it. Nothing, an empty text, no, zero and an empty list are the
// same. Things that no charter names are left alone, unless a charter claims the whole; what
// a charter named before, and names no more, goes.
//
// Steps come in an order that works: things of one kind before those of kinds that may name
// them, and removals the other way round, after all else.
package charter
