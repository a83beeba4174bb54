package catalog

import "time"

// Author says who makes a change, when and from where.
type Author struct {
	At     time.Time // zero: now, by the database's clock
	Who    string    // as access.Subject.By tells kinds apart
	Source string    // the client's address
}
