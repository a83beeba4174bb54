// Package works does the background work.
//
// Work is claimed with a lease in the database, so that any number of
// processes share it and one takes over when another dies. Each piece keeps
// where it stands in the works table: it can be stopped at any moment, resumes,
// and is safe to repeat.
//
//   - usage: rolls the journal's deltas up, every second.
//   - collector: deletes bodies that no version refers to, once they are older
//     than a grace period, and compacts segments of which most is dead.
//   - scrubber: reads every body at a limited rate and compares digests.
//   - trail: forgets what the audit trail has kept long enough, every hour.
//   - partitions: makes the journal's next months.
//
// What every process needs for itself (which bodies are damaged) it reads by
// itself.
package works
