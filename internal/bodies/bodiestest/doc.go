// Package bodiestest has the tests that every bodies.Space must pass.
package bodiestest
