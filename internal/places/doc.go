// Package places opens what jobs are about: a bucket here, a bucket at an endpoint, or a folder beneath one of the
// service's roots, as whoever saved the job may use it, now or as of a moment. It tells what each is, so that another one
// in its place is noticed, and makes of a sync job what carries it out.
package places
