package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"spindle/internal/harness"
)

// TestBackupsOnTheCommandLine makes, checks, removes and restores backups of a service that runs.
func TestBackupsOnTheCommandLine(t *testing.T) {
	s := harness.Service(t, nil)
	dir := t.TempDir()
	for _, d := range []string{filepath.Dir(dir), dir} { // the database's user passes through
		if err := os.Chmod(d, 0o711); err != nil {
			t.Fatal(err)
		}
	}
	write(t, filepath.Join(dir, "words"), []byte("pressed between two boards\n"))
	write(t, filepath.Join(dir, "leaf"), noise(300_000))
	steps := func(all ...step) {
		t.Helper()
		for _, st := range all {
			st.args = strings.NewReplacer("MAKE", "backup make DIR/kept --data "+s.Config.Data+" --database "+s.Config.Database+
				" --passphrase-from DIR/words").Replace(st.args)
			try(t, s, dir, st)
		}
	}
	steps(step{"bucket create plates", 0, "plates"}, step{"object put DIR/leaf plates/", 0, "Put 1 object"},
		step{"backup list DIR/kept", 4, "no folder with backups"}, step{"backup remove DIR/kept --keep 1", 4,
			"no folder with backups"},
		step{"MAKE", 0, "Backup 20"}, step{"backup list DIR/kept", 0, "CATALOG"},
		step{"backup check DIR/kept --passphrase-from DIR/words --all", 0, "1 body looked at, 293.0 KiB read, 0 wrong"},
		step{"backup check DIR/kept --passphrase-from DIR/leaf", 1, "passphrase"})
	time.Sleep(1100 * time.Millisecond) // backups are known by their second
	steps(step{"MAKE", 0, "0 files new"}, step{"backup remove DIR/kept", 2, "name the backups that go"},
		step{"backup remove DIR/kept --keep 0", 2, "one at least"},
		step{"backup remove DIR/kept 2020-01-01T00-00-00Z --yes", 4, "no backup 2020-01-01"},
		step{"backup remove DIR/kept --keep 5 --yes", 0, "Nothing goes: there are 2 backups"},
		step{"backup remove DIR/kept --keep 1", 2, "1 backup stays, the latest 20"},
		step{"backup remove DIR/kept --keep 1 --yes", 0, "Removed 1 backup; 0 files"},
		step{"backup remove DIR/kept --keep 1 --yes", 0, "Nothing goes"})
	write(t, filepath.Join(dir, "kept", "volumes", "x", "00.body"), noise(100)) // as a kill before the last step leaves it
	steps(step{"backup remove DIR/kept --keep 1", 2, "1 file of bodies, 100 B, that no backup has"},
		step{"backup remove DIR/kept --keep 1 --yes", 0, "Removed 0 backups; 1 file of bodies"},
		step{"restore DIR/kept --data DIR/new --passphrase-from DIR/words", 0, "Start it with the settings it had"},
		step{"restore DIR/kept --data DIR/new --passphrase-from DIR/words", 1, "empty"})
}
