// Package demo makes the sample data: the Fennmoor Herbarium, a made-up house
// that digitises pressed plants.
//
// Everything is drawn from a seed and spread over the three years before the
// moment of loading, so that ages, growth and quotas have something to show.
// It is the only caller that sets back the time of a change.
package demo
