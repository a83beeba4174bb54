// Package store is the one door to objects: catalog and bodies together, under
// the promises of docs/architecture.md.
//
// A put reads the body to the volume while hashing it, compares every claimed
// digest, syncs, and only then commits one catalog transaction that makes the
// version current, appends to the journal and carries the usage. The answer
// goes out after the commit. A crash in between leaves a body that nothing
// refers to; the collector finds it.
//
// A removal is the catalog's alone; bytes go later. So a reader that looked a
// version up just before it was removed still finds its bytes.
//
// The store decides nothing about who may do what and knows no HTTP: the faces
// do. It is given the author of each change (who, from where) and, by the demo
// loader only, the time of it.
package store
