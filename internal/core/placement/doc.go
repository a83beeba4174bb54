// Package placement says what placements are: ways of keeping the bytes of a bucket, which
// the operator offers to accounts, and which an account may choose from, or has fixed. It
// knows nothing of where they are kept.
package placement
