// Package standin is an endpoint to try things out with: a small server of the shared
// dialect with its own store, in memory or in a folder, and faults on demand. It is a
// loopback affair, for the sample data and for tests; nothing in it is made to keep
// anything for good.
//
// hold keeps objects, wire answers the dialect and has the faults. Beneath
// /.standin/ the same port takes control: GET and PUT faults (JSON), GET counts. Control
// asks for no key.
package standin
