// Package service puts the parts together: it turns a Config into a running
// service and takes it down again.
//
// The order of starting is the order of needs: the data directory's lock, the
// private database (unless one is given), the catalog, the volume, the master
// key, the store, background work, desk, wire. Ports are taken before anything
// else that lasts, so that a taken port is said at once. Stopping goes the
// other way: first no new requests, then those under way, then work, then the
// database.
package service
