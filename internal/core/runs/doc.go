// Package runs has what is said of each run of a job that somebody saved: sync jobs and censuses.
package runs
