package catalog

import "testing"

// SmallIndex makes segments and runs of the index of find small, for a test.
func SmallIndex(t *testing.T, segment int, run int64) {
	was, wasRun := segmentMost, runSmall
	segmentMost, runSmall = segment, run
	t.Cleanup(func() { segmentMost, runSmall = was, wasRun })
}

// ToldIn has catalogs that are opened be told another time by their database.
func ToldIn(t *testing.T, f func(*Catalog)) {
	toldIn = f
	t.Cleanup(func() { toldIn = nil })
}
