// Package gate lets requests in: it knows who asks, has core/access decide, and
// notes what was refused and which keys are in use.
//
// Grants are held in memory and looked for anew at most once a second, when a
// number in the database says that they changed: what one process grants or takes
// away holds in the others within a second, and so do changes of keys. A
// transfer under way is asked again every second, and is cut off when it may no
// longer go on.
package gate
