// Package backoff says how long to wait before what failed is tried again.
package backoff
