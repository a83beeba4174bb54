// Package middle is what all calls of the desk share: who asks and what they may do, what
// they are told of others, how calls are registered, lists cut into pages, and errors told.
package middle
