// Package crew is what all background work of a process stands on: leases on pieces of work,
// which are renewed beside it, standing work with pauses, tasks in batches, and schedules.
package crew
