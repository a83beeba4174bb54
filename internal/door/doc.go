// Package door is what stands between the network and the faces: it holds the
// connections, so that nobody can stop the service by being slow, silent or many.
//
// A connection lives by progress. From the first byte of a request its header has
// a time to come in; its body has to keep a least rate, with some quiet allowed;
// every stretch of an answer has to be taken in time. Who is refused is not waited
// for. There are bounds on connections, in all and from one address, chosen so
// that descriptors are left for the database and the volumes; a new connection
// beyond them takes the place of the one that has proved itself least: silent
// ones first, never one on which somebody known is being answered.
//
// A Budget bounds what one asker has in memory at a time: documents being read,
// answers being written.
package door
