// Package works does the background work, of three families.
//
// Standing work is always there, one process at a time: the roll-up of usage
// (usage), the journal's next months and the letting go of old ones (partitions),
// what the audit trail has kept long enough (trail), uploads that ended long ago
// (uploads), digests of parted objects (summer), the rules of buckets (lifecycle),
// restored copies (restorer), bytes that nothing refers to (collector), and the reading
// of every body (scrubber).
//
// Orders are asked for by somebody and go through a prefix, a step at a time, with
// the rights of whoever gave them. A kind of order is one file: see Kind.
//
// Tasks are many small things with a time before which nothing is done: see TaskKind.
// Beside them a Schedule says when something is done again and again.
//
// Standing work and orders are held by a lease in the database, renewed beside the
// work. Each claim has a number of its own; whatever is saved or committed under an
// older one fails, so a process that was frozen in a step and thaws after another
// took over changes nothing. Tasks are claimed in batches and end under their claim's
// number likewise. Everything can be stopped at any moment, goes on where it was, and
// may be done twice. What fails comes round again with pauses that grow.
//
// Ages are judged by the database's clock, and not at all by a process whose own is
// more than catalog.Apart away from it.
//
// What every process needs for itself (the clock, which bodies are damaged) it looks
// at by itself.
package works
