// Package usage says how what is kept grows, and when it will fill what there is.
package usage
