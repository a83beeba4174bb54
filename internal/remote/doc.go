// Package remote reaches other places: the one dialer to addresses that somebody typed
// in, and the pool of endpoints.
//
// There is one dialer for such addresses, so that there is one place where it is decided
// what may be reached: an address is resolved first, and each number it stands for is
// looked at before anything is sent to it. Link-local addresses, where machines keep
// their own secrets, are never reached, nor what is no address of one machine.
//
// An endpoint's Conn has a client with its key, whose connections go by that dialer,
// never follow a redirect, and share one limit of bytes a second. A circuit counts what
// failed because the endpoint was away, so that nobody waits for a dead one.
package remote
