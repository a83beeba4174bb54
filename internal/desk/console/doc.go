// Package console has the built console. It stands alone, so that what is built anew when a page changes is small.
package console
