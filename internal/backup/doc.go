// Package backup copies a service, under load, into a folder, says whether such a copy is
// whole, and brings it back, on this machine or on an empty one.
//
//	FOLDER/2026-11-27T09-30-00Z/manifest.json   what the backup is; written last
//	FOLDER/2026-11-27T09-30-00Z/database.dump   the catalog, by the database's own program
//	FOLDER/2026-11-27T09-30-00Z/bodies.gz       which files of volumes/ it has
//	FOLDER/2026-11-27T09-30-00Z/master.key.age  the master key, sealed under a passphrase
//	FOLDER/2026-11-27T09-30-00Z/base/           the database's own files, when its log is kept
//	FOLDER/log/CLUSTER/...                      that log, compressed by gzip, as the server hands it on
//	FOLDER/volumes/MARKER/...                   bodies, as volumes have them; shared by all backups
//
// The order makes it right while the service runs: first the collector is held, then the
// catalog is dumped in one snapshot, then bodies are copied. Every body that the snapshot
// refers to was there before it, and stays until the copy is done. Bodies never change under
// their names, so one that is there in its length is not copied again.
//
// Backups are removed with the bodies that no other one has. Whoever makes or removes holds
// FOLDER/lock; whoever removes also FOLDER/lock-read, which whoever checks or restores shares.
//
// A moment between two backups is come to by the files of the database in the latest backup
// before it and by the log after them; its bodies are those of all backups.
package backup
