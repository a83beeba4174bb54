// Package wire is the parent of what speaks the HTTP dialect for objects that
// the whole trade shares. The dialect's spellings (header names, XML elements,
// error codes, signature constants) stay beneath this folder.
//
//   - sign has request signing, version 4, for both ends: header and query
//     signing, signed and unsigned payloads, chunked payloads with trailers.
//   - server answers clients.
//   - client asks any service that speaks the dialect, ours among them.
package wire
