// Package wire answers the shared dialect for a stand-in. It shares no code with the
// service's own server, nor with its signing, so that a mistake of one is not hidden by
// the same mistake in the other: it is written from the dialect's description alone.
//
// It does what an endpoint does that people keep copies at: buckets, versions, objects
// with metadata and tags, copies, ranges, conditions, uploads in parts, listings, a
// lifecycle document that it keeps and does not act on. Faults change how it answers.
package wire
