// Package attack has no code: its tests start the real service and make the
// requests by which somebody would become more than they are, have a request count
// that its signer did not make, or stop the service without a key. Each has to
// fail. docs/security.md names them.
package attack
