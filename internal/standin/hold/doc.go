// Package hold keeps the objects of a stand-in: buckets, keys with their versions, and
// uploads, in memory or in a folder. It knows nothing of the dialect.
//
// What is in a folder is there again after a start: each change is a line of its log,
// and bodies are files beside it. Unfinished uploads are not. Nothing is synced: a
// stand-in is for trying things out.
package hold
