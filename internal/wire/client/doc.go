// Package client asks any service that speaks the shared dialect.
//
// Bodies stream in both directions. A put sends the body in chunks with its
// CRC-64/NVME in the trailer, so that a change on the way is found without
// reading the file twice; a get compares the digest that the service gives.
// Errors of the dialect become faults, with the service's message.
//
// Check looks at a client's settings one by one (address, port, protocol,
// certificate, clock, region, key, rights) and names the one at fault.
package client
