// Package access decides who may do what.
//
// A request is made by a Subject (a key, a person, or anyone) that acts in an
// account with a Role, and asks for a Right at a Target: a bucket, a prefix or a
// key. What the subject's own account owns is ruled by its role; what others own
// by grants. A key's limits bound both. Decide is a pure function of these and
// the clock; its Decision says what decided, and if it refuses, what is missing.
package access
