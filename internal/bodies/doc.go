// Package bodies keeps the bytes of objects on a volume: a directory on a disk
// that may be shared by several processes.
//
//	whole/3f/0192…3f.body     one body, larger than SmallBody
//	segments/0192….seg        many small bodies, one after another
//
// A file's name is a unique number and final from the start: the catalog
// decides what is visible, so nothing is ever renamed, and a crash leaves a
// file that no version refers to, which the collector finds.
//
// Small bodies are appended to a segment. Whoever waits at the same moment
// shares one write and one sync; there is no delay to gather company. Each is
// preceded by a header of 32 bytes (magic, length, CRC-64, offset), so that a
// segment can be read without the catalog. A process appends only to segments
// it made, and holds a shared lock on the one it appends to; whoever compacts
// or deletes a segment must get that lock alone first.
//
// Large bodies are written as they arrive, hashed beside the write when a core
// is free, and written back early in stretches, which leaves little for the
// sync at the end. The folder is synced too: without that a crash may forget
// the file's name.
//
// Small bodies are checked against their digest on every read. Large ones are
// handed to the kernel, which does not look at bytes; their length is checked
// on opening, and their digest by the scrubber and by our own client.
//
// A tier that is added has a Shelf of such volumes. What it compresses, or keeps in
// several copies, is cut into frames with a digest each, so that damage is noticed
// while a body is sent, and the next copy goes on from there. A marker file says which
// volume a directory is: without it the volume is away, nothing is written to it, and
// what is missing there is not called damage.
//
// A tier may be Elsewhere too: at a Place, a bucket of another store. Its bodies are in
// frames, each an object, sent in pieces while they arrive and read by ranges.
//
// Errors of a full disk have the kind Full; a body that is gone, short or
// differs from its digest has the kind Damaged.
package bodies
