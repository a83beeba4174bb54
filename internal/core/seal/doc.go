// Package seal is the format of sealed bodies: bytes encrypted at rest.
//
// A sealed body is a header of 72 bytes and then chunks. The header names the
// body key that wraps the body's own data key, which no other body has. Chunks
// are of 64 KiB of plain bytes, the last one shorter or as long, each sealed
// with AES-256-GCM (NIST SP 800-38D) and 16 bytes longer for its tag. A chunk's
// nonce holds its number and whether it is the last: so no chunk can be left
// out, moved, doubled, or cut off at the end without its tag failing, and a
// range is read by opening the chunks that it touches.
//
// docs/sealed.md has the layout byte by byte.
//
// Errors have the code damaged (a chunk or header that was changed or cut) and
// seal-version (a header of another version of the format).
package seal
