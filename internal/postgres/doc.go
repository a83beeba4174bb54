// Package postgres makes, starts and stops the private PostgreSQL of a data
// directory.
//
// The cluster lives under DIR/postgres and listens on a unix socket only, in a
// folder that nobody else may enter, so that nothing on the network reaches
// it. Run by root, its programs run as the postgres user, as they insist, and
// the folders above must be passable for that user; when one is not, the error
// names it.
//
// The server is a child that is told to shut down when this process dies, and
// is started again when it dies itself. One that a crash left running is asked
// to stop before a new one starts: two servers never share a cluster.
package postgres
