// Package jobs does sync jobs and censuses by their schedules, posts changes, looks after the
// indexes of find, and audits accounts.
package jobs
