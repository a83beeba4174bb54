// Package columns turns objects into columns that answer an expression of find without
// looking at the objects: a segment holds up to 65,536 objects in the order of their keys,
// which are known by their ordinals, and for each field its values in order, each with the
// ordinals that have it. Values stand in chunks, so that a few bytes of a column answer for
// a value that few objects have.
package columns
