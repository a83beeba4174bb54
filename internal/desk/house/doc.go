// Package house has the desk's calls for tiers, placements, regions, endpoints and damage:
// what the service consists of, and what it works with.
package house
