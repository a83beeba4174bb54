// Package ageing does what the rules of buckets say, and rehearses it: removals, moves between
// tiers, unfinished uploads. It restores copies, and sums objects that came in parts.
package ageing
