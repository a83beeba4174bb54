// Package keyring keeps access keys' secrets: sealed in the catalog under a
// master key that lives outside it, open only in memory and only for as long
// as a few seconds of requests need them.
//
// The master key is 32 random bytes in a file of the data directory (mode
// 0600). A secret is sealed with AES-256-GCM; the key's id is authenticated
// with it, so that a sealed secret cannot be moved to another id.
package keyring
