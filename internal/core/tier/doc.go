// Package tier has what a tier is: a class of storage with a place, a number of
// copies, a price and a speed. It knows nothing of disks; package bodies keeps the
// bodies of a tier, package catalog the tiers there are.
//
// Prices are in millionths of whatever money the house counts in, so that sums are
// exact: 21000 is 0.021.
package tier
