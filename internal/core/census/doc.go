// Package census says what a census is: which objects it lists, with which columns, in
// which format, where to and when; what a run of one came to; and what stands in its
// manifest. The files are written and read by censusfile.
package census
