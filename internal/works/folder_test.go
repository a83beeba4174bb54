package works_test

import (
	"os"
	"path/filepath"
	"testing"

	"golang.org/x/sys/unix"

	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/syncing"
	"spindle/internal/places"
	"spindle/internal/side"
	"spindle/internal/side/sidetest"
)

// While a folder beneath the root is exchanged with a link out of it, over and over, whoever
// opens it reads and writes beneath the root, or is refused.
func TestFolderRootHoldsAgainstExchanges(t *testing.T) {
	outside, root := t.TempDir(), t.TempDir()
	secret := filepath.Join(outside, "secret")
	drop, link := filepath.Join(root, "a", "drop"), filepath.Join(root, "a", "link")
	for _, err := range []error{os.WriteFile(secret, []byte("of the machine"), 0o600), os.MkdirAll(drop, 0o755),
		os.WriteFile(filepath.Join(drop, "plain"), []byte("of the root"), 0o600), os.Symlink(outside, link)} {
		if err != nil {
			t.Fatal(err)
		}
	}
	stop, stopped := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(stopped)
		for {
			select {
			case <-stop:
				return
			default:
				if err := unix.Renameat2(unix.AT_FDCWD, drop, unix.AT_FDCWD, link, unix.RENAME_EXCHANGE); err != nil {
					t.Error(err)
					return
				}
			}
		}
	}()
	sides := &places.Sides{Folders: []string{root}}
	opened, refused := 0, 0
	for i := range 2000 {
		s, mark, err := sides.Open(t.Context(), &syncing.Job{}, syncing.Place{Folder: drop}, nil, nil)
		if err != nil {
			if !fault.HasCode(err, "folder-refused") && !fault.HasCode(err, "folder-missing") {
				t.Fatal(err)
			}
			refused++
			continue
		}
		opened++
		list, err := s.List(t.Context(), "", "", 10)
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range list {
			if f.Key == "secret" {
				t.Fatalf("round %d lists what is outside, as %s", i, mark)
			}
		}
		body := []byte("written")
		crc := digest.CRC64(body)
		if _, err := s.Write(t.Context(), "written", sidetest.Bytes(body),
			side.Write{Facts: side.Facts{Size: int64(len(body)),
				CRC64: &crc}}); err != nil {
			t.Fatal(err)
		}
		_ = s.(*side.Folder).Close()
	}
	close(stop)
	<-stopped
	left, err := os.ReadDir(outside)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range left {
		if e.Name() != "secret" {
			t.Errorf("written outside: %s", e.Name())
		}
	}
	if opened == 0 || refused == 0 {
		t.Errorf("%d were opened, %d refused: the exchanges were not met", opened, refused)
	}
}
