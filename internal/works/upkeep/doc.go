// Package upkeep looks after bodies and endpoints: it collects what nobody refers to, reads every
// body, repairs tiers, makes room, and asks how endpoints and other regions are.
package upkeep
