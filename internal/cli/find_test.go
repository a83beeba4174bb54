package cli_test

import (
	"fmt"
	"path/filepath"
	"testing"

	"spindle/internal/harness"
)

// Objects are found by what they are, as a table, CSV and JSON lines, counted, page by page;
// a mistake is shown where it is.
func TestFindOnTheCommandLine(t *testing.T) {
	s := harness.Service(t, nil)
	dir := t.TempDir()
	for i := range 12 {
		write(t, filepath.Join(dir, fmt.Sprintf("FH-%02d.tif", i)), noise(1000*i))
	}
	for _, st := range []step{
		{"bucket create plates --versioning on", 0, "Created"},
		{"object put DIR/FH-10.tif plates/late.tif --metadata taxon=Drosera", 0, "Put 1 object"},
		{"sync DIR plates/2026", 0, "Wrote 12 objects"},
		{"find size over 9 KiB", 0, "plates/2026/FH-11.tif"},
		{"find field taxon is Drosera --show taxon", 0, "Drosera"},
		{"find size over 9 KiB and lacks field taxon --count", 0, "2 objects"},
		{"find current --limit 5", 0, "FH-04.tif"},
		{"find current --csv --bucket plates", 0, "plates,2026/FH-00.tif,0,"},
		{"find current --json --limit 1", 0, `"bucket":"plates"`},
		{"object remove plates/late.tif --yes", 0, "Removed"},
		{"find field taxon is Drosera", 0, ""},
		{"find field taxon is Drosera --versions", 0, "previous"},
		{"find siz over 9", 1, "did you mean size"},
		{"find size over ten", 1, "          ^"},
		{"find current --bucket nowhere", 4, "no bucket"},
		{"find", 2, "EXPRESSION"},
	} {
		try(t, s, dir, st)
	}
}
