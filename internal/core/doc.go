// Package core and the packages beneath it hold decisions, and nothing else:
// no SQL, no HTTP, no files, no goroutines, no clock. Time and randomness are
// passed in, so that every rule can be tested as a table of cases.
//
//   - fault is the one error type: a stable code, the field at fault, the remedy.
//   - object holds names, keys, metadata, versions and preconditions.
//   - digest computes and compares content digests.
//   - access decides who may do what.
//
// The packages import the standard library and each other; a test at the root
// of the module holds that line.
package core
