// Package syncing works out what brings one side to another: it merges two ordered
// listings into steps, of which it keeps one at a time, whatever their number.
//
// A step says what is to be done with a key, and why:
//
//	write    what is at the source goes to the target: it is new there, or another
//	doubt    size agrees and time does not: whoever carries the step out looks closer
//	skip     both have the same
//	remove   it is at the target alone, and the mode has it go
//	leave    it is at the target alone, and stays
//	refuse   it cannot be carried over: the reason is in the step
//
// Drain removes at the source what is written or the same, once that was read back: the
// steps are those of accumulate.
package syncing
