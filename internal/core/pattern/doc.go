// Package pattern has the patterns of keys that rules and jobs take in or leave out.
package pattern
