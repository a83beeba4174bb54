// Package sealing makes what is kept at a side that must not read it: contents, and names
// where that is wanted, are sealed before they leave.
//
// A passphrase and a salt make the keys: argon2id (RFC 9106, section 4, the second
// recommended choice: 3 passes, 64 MiB, 4 lanes) gives 32 bytes, of which HKDF with
// SHA-256 (RFC 5869) gives a key for each purpose. Losing passphrase or salt loses the
// data; the salt is no secret, and is kept beside it and on the recovery sheet.
//
// A content is a file of the open format age, version 1, for one X25519 recipient, so
// that the ordinary program of that format opens it. Its header has one more stanza,
// which others pass over: size, time, permissions and digest of the content, bound to its
// key, by which files that were swapped are found, and sides are compared without reading
// contents. The header has the same length in every file, so a listing tells how long a
// content is.
//
// A name is sealed deterministically, so that the same key has the same name in every
// run: a synthetic initialisation vector, as RFC 5297 has it, of HMAC-SHA-256, and
// AES-256 in counter mode.
//
// docs/sealed-sync.md has all layouts byte by byte, with a test vector.
//
// Errors have the codes passphrase-weak, passphrase-wrong, sealed-damaged (it was changed,
// cut or swapped) and name-too-long.
package sealing
