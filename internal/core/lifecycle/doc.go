// Package lifecycle has the rules by which versions age: what a rule is, which
// version one is about, what is due when, and which rule wins. It is pure: no clock,
// no store; the rehearsal, the runner and an object's page all ask it.
//
// A rule has a scope and actions. What an action's age is counted from depends on what
// it is of:
//
//	current    the current version       from when it was written
//	previous   a previous version        from when it was replaced
//	markers    a delete marker that      from when it was made
//	           hides nothing
//	uploads    an unfinished upload      from when it was started
//
// An age is in whole days of 24 hours; an action may have a date instead, and is due
// from midnight UTC of it.
//
// Which action wins when several are due for one version:
//
//  1. a removal before any move;
//  2. of removals the one that has been due for more days;
//  3. of the moves of one rule the one that was due last, which is the rule's own
//     course;
//  4. of the moves of several rules the one to the cheaper tier, then the one that
//     has been due for more days;
//  5. then the rule whose name comes first.
//
// A move to a dearer tier than the version's happens only where the action says that it
// may.
package lifecycle
