// Package side has one small interface for whatever holds objects and can be read and
// written by key: a bucket here, a bucket at an endpoint, a folder. What copies, syncs
// or compares works on sides and asks nothing of what kind they are.
//
// Listings come in the order of keys' bytes, a page at a time. A write gives the body as
// something of which ranges can be read again, so that a large one goes in parts side by
// side and goes on after a failure; it succeeds only when the side confirmed the content
// by a digest, by its own or by our reading it back.
//
// sidetest has the tests that each side must pass.
package side
