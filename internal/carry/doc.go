// Package carry carries out what brings one side to another: it rehearses a plan, asks
// the guard, writes what is new or changed with several objects under way, and removes at
// the end, looking again.
//
// What is written is proved by its digest at the target. A file that changes while it is
// read is read again. What fails for a moment is tried again; what fails after that is an
// outcome with its reason, and keeps removals from being done in that run.
package carry
