// Package jobs has the desk's calls for what goes on by itself: replication, sync jobs,
// censuses, posts, orders and charters.
package jobs
