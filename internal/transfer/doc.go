// Package transfer moves content between files and an endpoint: whole or in parts and
// ranges side by side, compared at the end, and going on where it was stopped. It knows
// nothing of who looks on: that is a Progress.
//
// A file is put as one object, or in parts when it is large; what an earlier try sent
// is compared and not sent again. An object is got beside its place first, so that a
// file is never half there. What is there already, by size and digest, is not moved.
package transfer
