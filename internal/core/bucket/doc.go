// Package bucket has the settings of buckets: what they may be, how they are changed,
// and in what two of them differ. It knows nothing of where they are kept.
package bucket
