// Package replicate keeps replicas: it follows the journal, makes what is owed to each target, and
// verifies what is there.
package replicate
