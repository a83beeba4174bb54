// Package sign signs and verifies requests (signature version 4).
//
// A canonical form of the request (method, path, query, signed headers, digest
// of the payload) is hashed; with the moment and the scope (day, region,
// service) it makes the string to sign; the key is derived from the secret by
// four HMAC-SHA-256 over the scope's parts. The same code serves both ends, so
// tests hold it against an independent signer, curl's.
//
// The payload's digest is given in a header and may be: the SHA-256 of the
// body; a word for an unsigned body; or a word for a body in chunks, each with
// a signature that continues the one before, or with a trailer that carries a
// digest. Reader decodes and verifies those.
//
// The desk's API is signed in the same way; it imports this package.
package sign
