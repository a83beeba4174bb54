// Package cli is the command line: nouns, then verbs, then addresses.
//
// Commands talk to the desk for what is administered and to the wire for
// bodies, never to the catalog; serve and demo run the service itself. Results
// go to stdout, messages to stderr. People get aligned tables and progress on
// a terminal; programs get --json (one document, or a line for each item), no
// colour and no progress.
//
// Exit codes: 0 done, 1 failed, 2 wrong usage, 3 refused, 4 not found, 5 a
// rehearsal or comparison found differences (with --check).
//
// Keys are shown with control characters escaped: a key must not be able to
// drive somebody's terminal.
package cli
