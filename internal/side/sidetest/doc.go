// Package sidetest has the tests that every side must pass.
package sidetest
