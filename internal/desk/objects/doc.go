// Package objects has the desk's calls for buckets and what is in them, here and at
// endpoints: objects, versions, uploads, lifecycle rules, the journal, and find.
package objects
