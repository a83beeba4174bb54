// Package replication decides what rules keep copied: what a rule is, which versions it
// covers and why not, what must be done at a target for a key as it is now, and how long
// that took.
//
// A rule has one bucket as its source and targets, each a bucket here or at an endpoint.
// Of each key a target gets the newest state: what was replaced before its turn came is
// not sent. A key has one task at a target at the most, so nothing overtakes.
//
// An Origin travels with a replica: the first version it is a copy of, and the buckets
// it came through. A bucket that stands in it does not get the replica again, so rings
// of rules settle, whichever services they run through.
package replication
