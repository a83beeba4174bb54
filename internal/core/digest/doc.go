// Package digest computes the content digests of objects.
//
// Every object has a CRC-64/NVME of its whole content, however it arrived
// (catalogued parameters: polynomial 0xad93d23594c93659, reflected, initial
// value and final exclusive-or all ones). It is chosen because it is cheap
// enough to check on every read and because two of them combine into the one
// of the joined content, which a cryptographic digest does not.
//
// The standard library's hash/crc64 builds a table of 16 KiB at every call, so
// the CRC is written here: slicing by eight bytes everywhere, and carry-less
// multiplication on amd64 (Gopal and others, "Fast CRC Computation for Generic
// Polynomials Using PCLMULQDQ", 2009), 64 bytes a round; the rest of a fold is
// left to the table. A test compares both with the standard library.
//
// The other digests that the wire knows (CRC-32, CRC-32C, SHA-1, SHA-256) come
// from the standard library; Kind names them.
package digest
