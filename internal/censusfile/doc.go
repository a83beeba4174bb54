// Package censusfile writes and reads the files of a census, as CSV, JSON lines and Parquet,
// and answers questions about what is in them: rows like an expression, totals, and what
// came, went and changed between two of them.
package censusfile
