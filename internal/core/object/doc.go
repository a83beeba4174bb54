// Package object says what is valid about buckets and objects, and what the
// parts of a version are.
//
// Names are parsed once, at the edge, into types that cannot be wrong:
// BucketName, Key and Metadata come out of their Parse functions or not at
// all, and the rest of the house passes those types, never loose strings.
//
// A Key is any valid UTF-8 of 1 to 1,024 bytes, NUL and control characters
// among them. It is compared and stored as bytes. It is never a path: nothing
// in Spindle joins a key to a directory name without SafePath.
//
// Conditions (write only if absent, read only if changed) are decided here, as
// pure functions over what is there.
package object
