// Package access has the desk's calls for accounts, people, keys, sessions and grants, and
// finds out who asks.
package access
