// Package orders does what somebody asks for and that goes through a prefix, a step at a time,
// with the rights of whoever gave the order. A kind of order is one file: see Kind.
package orders
