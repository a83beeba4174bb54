// Package server answers clients in the shared dialect.
//
// A request goes through target (which bucket and key, path style or host
// style), authenticate (who signed it), and a table of operations chosen by
// method, resource and query. Operations parse headers into core types and
// call the store; errors come back as faults and are rendered once, in fail.
//
// What a client may probe for and that has a simple true answer gets it (see
// probes.go); everything else gets "not implemented", never a silent success.
//
// Listings are written by hand rather than by encoding/xml, which replaces
// control characters in keys; documents that arrive are read by encoding/xml
// under limits of size and depth.
package server
