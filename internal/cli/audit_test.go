package cli_test

import (
	"path/filepath"
	"testing"

	"spindle/internal/harness"
)

// An account is looked through; what is found is shown with what mends it, and let be.
func TestAuditOnTheCommandLine(t *testing.T) {
	s := harness.Service(t, nil)
	dir := t.TempDir()
	write(t, filepath.Join(dir, "sheet.tif"), noise(1000))
	for _, st := range []step{
		{"bucket create plates", 0, "Created"},
		{"object put DIR/sheet.tif plates/sheet.tif", 0, "Put 1 object"},
		{"audit run --check", 5, "no-versioning"},
		{"audit list", 0, "plates"},
		{"audit show plates", 0, "spindle bucket change plates --versioning on"},
		{"audit show smoke", 4, "found no"},
		{"audit accept no-versioning plates", 2, "--until"},
		{"audit accept no-versioning plates --until 90d", 1, "for a reason"},
		{"audit accept no-versioning plates --until 900d --why trial", 1, "a year at most"},
		{"audit accept no-versioning plates --until 90d --why trial", 0, "is accepted"},
		{"audit run --check", 0, "accepted"},
		{"audit list --all", 0, "no-versioning"},
		{"audit accept no-versioning plates --until none", 0, "counts again"},
		{"bucket change plates --versioning on", 0, "plates"},
		{"audit run --check", 0, ""},
		{"audit show no-versioning", 4, "found no"},
	} {
		try(t, s, dir, st)
	}
}
