// Package catalog keeps what is known of buckets and objects, in PostgreSQL.
//
// The shape follows the questions. heads has one row for every key that is
// there, so that a page of a listing is a range of its primary key; history
// has previous versions; journal has every change, in the order in which
// readers may rely on: (xid, seq) below the oldest running transaction. A
// reader that took sequence numbers alone would miss changes that commit late.
//
// Usage is never a counter that writers wait for: every journal entry carries
// its delta, and one follower rolls the deltas up (RollUp). An exact
// figure is what was rolled up plus what the journal has since.
//
// Writers do not hold transactions. A Change goes to one of a few committers;
// whatever waits when a committer becomes free (at most maxBatch changes of
// distinct keys) commits together in one call of commit_changes, and each
// writer gets its own answer. Alone, a change goes at once. Lookups share
// round trips in the same way.
//
// In commit_changes a new key is inserted with "on conflict do nothing"; when
// that did nothing the row is locked, judged, and updated. A single statement
// that reads and upserts loses versions when a key is first made twice at once.
//
// Versions go for good through one door (functions/door.sql): retained says
// whether one must stay, and write_down writes the journal and releases bodies.
// Nothing else does either.
//
// Bodies are referred to by file and offset; heads_body and history_body find
// who refers to a file, so several versions may share a body and the collector
// needs no counts. Rows of released only make it look sooner.
//
// Keys are bytea: they sort by bytes whatever the collation, may hold NUL, and
// the end of a prefix is the next byte string.
package catalog
