package cli_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/standin"
)

// A folder is brought to a bucket and back, compared first; what would be destroyed is
// asked for.
func TestSyncOnTheCommandLine(t *testing.T) {
	s := harness.Service(t, nil)
	dir := t.TempDir()
	for i := range 20 {
		write(t, filepath.Join(dir, "scans", fmt.Sprintf("2026/FH-%02d.tif", i)), noise(1000+i))
	}
	write(t, filepath.Join(dir, "scans", "notes.txt"), []byte("moor"))
	write(t, filepath.Join(dir, "drop", "new.tif"), []byte("fresh"))
	if err := os.MkdirAll(filepath.Join(dir, "empty"), 0o700); err != nil {
		t.Fatal(err)
	}
	for _, st := range []step{
		{"bucket create plates --versioning on", 0, "Created"},
		{"sync DIR/scans plates/in --rehearse", 0, "2026/FH-00.tif"},
		{"object list plates", 0, ""},
		{"sync DIR/scans plates/in --check", 5, "new"},
		{"sync DIR/scans plates/in", 0, "Wrote 21 objects"},
		{"sync DIR/scans plates/in/", 0, "Wrote 0 objects, 0 B; 21 the same already"},
		{"sync DIR/scans plates/in --check --by digest", 0, "the same"},
		{"object show plates/in/notes.txt", 0, "file-time"},
		{"sync plates/in DIR/copy --like *.txt", 0, "Wrote 1 object, 4 B"},
		{"sync plates/in DIR/copy --leave-out *.txt --size-to 1010", 0, "Wrote 11 objects"},
		{"sync plates/in DIR/copy --mode mirror --parallel 3", 0, "Wrote 9 objects"},
		{"sync DIR/empty plates/in --mode mirror", 1, "the source is empty"},
		{"sync DIR/drop plates/in --mode mirror", 1, "would be removed or replaced"},
		{"sync DIR/drop plates/in --mode mirror --rehearse --list", 0, "A run would ask first"},
		{"sync DIR/drop plates/in --mode drain", 0, "removed 1 at the source"},
		{"object get plates/in/new.tif -", 0, "fresh"},
		{"sync DIR/drop plates/in --mode drain", 0, "removed 0 at the source"},
		{"sync DIR/copy plates/in --mode mirror --json", 0, `"removed":{"objects":1`},
		{"sync DIR/scans plates/in --check", 0, "the same"},
		{"sync DIR/missing plates/in", 4, "cannot be used"},
		{"sync DIR/scans nowhere", 4, "no bucket"},
		{"sync DIR/scans plates --mode wipe", 1, "no mode"},
		{"sync DIR/scans plates --by smell", 1, "nothing to compare by"},
		{"sync DIR/scans plates --guard lots", 1, "no share"},
		{"sync DIR/scans plates --older soon", 1, "older"},
		{"sync DIR/scans @annex/plates", 1, "not synced with each other"},
		{"sync DIR/scans", 2, "FROM TO"},
	} {
		try(t, s, dir, st)
	}
	if _, err := os.Stat(filepath.Join(dir, "drop", "new.tif")); !os.IsNotExist(err) {
		t.Errorf("what was drained is still there: %v", err)
	}
	env := map[string]string{"HOME": dir, "SPINDLE_URL": s.DeskURL, "SPINDLE_KEY": harness.Key,
		"SPINDLE_SECRET": harness.Secret}
	for _, x := range []struct {
		answer string
		want   int
	}{{"no\n", 3}, {"anyway\n", 0}} {
		if code, out, errs := runEnv(t, env, x.answer, true, "sync", filepath.Join(dir, "empty"), "plates/in", "--mode",
			"mirror"); code != x.want {
			t.Errorf("%q: %d %s%s", x.answer, code, out, errs)
		}
	}
	try(t, s, dir, step{"object list plates", 0, ""})
}

// TestSyncGoesOnWhereItWas kills a run (-9) again and again: in the end the sides are
// equal, and little was sent twice.
func TestSyncGoesOnWhereItWas(t *testing.T) {
	s := harness.Service(t, nil)
	if err := s.Client().CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	total := int64(160 << 20)
	write(t, filepath.Join(dir, "scans", "large"), noise(int(total)))
	for i := range 300 {
		write(t, filepath.Join(dir, "scans", fmt.Sprintf("small/%03d", i)), noise(2000+i))
		total += int64(2000 + i)
	}
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	r := rand.New(rand.NewPCG(14, uint64(time.Now().UnixNano())))
	kills := 0
	for done := false; !done; {
		cmd := exec.Command(self, "sync", filepath.Join(dir, "scans"), "plates", "--mode", "mirror", "--parallel", "4")
		cmd.Env = append(os.Environ(), asCommand+"=1", "HOME="+dir, "SPINDLE_URL="+s.DeskURL, "SPINDLE_KEY="+harness.Key,
			"SPINDLE_SECRET="+harness.Secret)
		var said bytes.Buffer
		cmd.Stdout, cmd.Stderr = &said, &said
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		if kills < 20 {
			timer := time.AfterFunc(time.Duration(100+r.IntN(400))*time.Millisecond, func() { _ = cmd.Process.Kill() })
			defer timer.Stop()
		}
		err := cmd.Wait()
		if done = err == nil; done {
			break
		}
		if kills++; kills > 20 {
			t.Fatalf("not done when nobody killed it: %v: %s", err, said.String())
		}
	}
	x := &session{t, s, map[string]string{"DIR": dir}}
	x.run(0, "301", "sync", "{DIR}/scans", "plates", "--check", "--by", "digest")
	// At most four parts of 16 MiB, or four small objects, were sent again at each kill.
	if in := received(t, s); in > total+int64(kills)*4*(16<<20)+1<<20 {
		t.Errorf("%d bytes came in for %d after %d kills", in, total, kills)
	} else {
		t.Logf("%d kills; %d bytes came in for %d", kills, in, total)
	}
}

// A job is created, rehearsed, run, watched and removed.
func TestSyncJobsOnTheCommandLine(t *testing.T) {
	s := harness.Service(t, nil)
	dir := t.TempDir()
	for i := range 12 {
		write(t, filepath.Join(dir, "scans", fmt.Sprintf("FH-%02d.tif", i)), noise(1000+i))
	}
	for _, st := range []step{
		{"bucket create plates", 0, "Created"},
		{"bucket create copies", 0, "Created"},
		{"sync DIR/scans plates/in", 0, "Wrote 12 objects"},
		{"sync list", 0, "There is no job yet"},
		{"sync create nightly plates/in copies/in --mode mirror --schedule @daily --zone Europe/Oslo --note trial", 0,
			"@daily, Europe/Oslo"},
		{"sync create nightly plates/in copies/in", 1, "already"},
		{"sync create odd plates plates/in", 1, "in each other"},
		{"sync create odd plates", 2, "NAME FROM TO"},
		{"sync rehearse nightly --check", 5, "FH-00.tif"},
		{"sync watch nightly", 4, "has not run yet"},
		{"sync run nightly", 0, "12 objects"},
		{"sync rehearse nightly --check", 0, "the same"},
		{"sync list", 0, "done"},
		{"sync show nightly", 0, "is removed at the target"},
		{"object remove plates/in/ --yes", 0, "Removed 12"},
		{"sync run nightly", 1, "the source is empty"},
		{"sync run nightly --detach", 0, "asked for"},
		{"sync watch nightly", 1, "sync run nightly --anyway"},
		{"sync stop nightly", 1, "stopped"},
		{"sync change nightly --mode accumulate --schedule none --size-from 1KiB --guard 50%", 0, "by hand"},
		{"sync run nightly --json", 0, `"state":"done"`},
		{"sync runs nightly", 0, "stopped"},
		{"sync outcomes nightly 1 --limit 3", 0, "FH-0"},
		{"sync outcomes nightly 1", 0, "FH-02.tif"},
		{"sync change nightly --where age", 1, "age"},
		{"sync change nightly --where sealed", 1, "cannot be told by sealed"},
		{"sync change nightly --where lacks·tag·checked", 0, "where lacks tag checked"},
		{"sync rehearse nightly", 0, "both sides are empty"},
		{"sync change nightly --where none --state off", 0, "nightly"},
		{"sync remove nightly --yes", 0, "Removed"},
		{"sync show nightly", 4, "no such sync job"},
	} {
		try(t, s, dir, st)
	}
}

// A sealed job is made with a passphrase that somebody says they keep, and comes back by a
// restore, in part and elsewhere; between addresses a job is made for once.
func TestSealedJobsOnTheCommandLine(t *testing.T) {
	s := harness.Service(t, func(cfg *service.Config) { cfg.Reach = []string{"loopback"} })
	is, _ := harness.Standin(t, standin.Faults{}, "kept")
	s.StandinEndpoint("annex", is)
	dir := t.TempDir()
	for i := range 6 {
		write(t, filepath.Join(dir, "scans", fmt.Sprintf("%d/FH-%02d.tif", 2024+i%2, i)), noise(1000+i))
	}
	write(t, filepath.Join(dir, "words"), []byte("linen thread on a reel\n"))
	write(t, filepath.Join(dir, "other"), []byte("cotton thread on a reel\n"))
	sealed := " --sealing names --passphrase-from DIR/words --yes"
	for _, st := range []step{
		{"bucket create plates", 0, "Created"},
		{"sync DIR/scans plates", 0, "Wrote 6 objects"},
		{"sync create kept plates @annex/kept/s --sealing names --passphrase-from DIR/words", 2, "say --yes"},
		{"sync create kept plates @annex/kept/s --sealing ropes --passphrase-from DIR/words --yes", 1, "sealing"},
		{"sync create kept plates @annex/kept/s --mode mirror --bandwidth 64MiB" + sealed, 0, "contents and names"},
		{"sync run kept", 0, "6 objects"},
		{"object list @annex/kept/s/", 0, "spindle-sealed.json"},
		{"sync create again plates @annex/kept/s --sealing names --passphrase-from DIR/other --yes", 3, "not the one"},
		{"sync create again plates @annex/kept/s --sealing content --passphrase-from DIR/words --yes", 1, "names sealed too"},
		{"sync create again plates @annex/kept/s" + sealed, 0, "again"},
		{"sync rehearse again --check", 0, "the same"},
		{"sync create listed plates @annex/kept/listed", 0, "listed"},
		{"sync rehearse listed --list", 0, "2025/FH-05.tif"},
		{"sync rehearse listed --list --json", 0, `"key":"2025/FH-05.tif","do":"write"`},
		{"sync plates @annex/kept/once --rehearse --list", 0, "2025/FH-05.tif"},
		{"sync DIR/scans plates/mine/ --sealing names --passphrase-from DIR/words", 2, "say --yes"},
		{"sync DIR/scans plates/mine/ --bandwidth 64MiB" + sealed, 0, "Wrote 6 objects"},
		{"sync DIR/scans plates/mine/" + sealed, 0, "6 the same"},
		{"sync DIR/scans plates/mine/", 1, "the target holds sealed contents"},
		{"sync plates/mine/ DIR/mine --sealing content --passphrase-from DIR/words", 1, "--sealing names"},
		{"sync plates/mine/ DIR/mine --sealing names --passphrase-from DIR/other", 3, "not the one"},
		{"sync plates/mine/ DIR/mine --sealing names --passphrase-from DIR/words", 0, "Wrote 6 objects"},
		{"sync DIR/scans DIR/mine --check", 0, "the same"},
		{"object remove plates/mine/ --yes", 0, ""},
		{"sync change again --sealing none", 1, "the target holds sealed contents"},
		{"sync change kept --bandwidth fast", 1, "is no limit"},
		{"sync sheet kept", 0, "spindle sync recover --from"},
		{"sync sheet kept --page DIR/sheet.html", 0, "sheet.html"},
		{"sync restore kept --to plates/back --prefix 2025/ --rehearse", 0, "2025/FH-01.tif"},
		{"sync show kept-restore", 4, "no such sync job"},
		{"sync restore kept --to plates/back --prefix 2025/", 2, "say --yes"},
		{"sync restore kept --to plates/back --prefix 2025/ --yes", 0, "3 objects"},
		{"sync restore kept-restore --yes", 1, "is a restore itself"},
		{"sync restore kept --as-of 2d --rehearse", 0, "at the target alone"},
		{"object get plates/back/2025/FH-01.tif DIR/back.tif", 0, "Got 1 object"},
		{"sync plates @annex/kept/plain --rehearse", 0, "new"},
		{"sync plates/2024/ @annex/kept/plain", 0, "3 objects"},
		{"sync plates/2024/ @annex/kept/plain --check", 0, "the same"},
		{"sync list", 0, "kept-restore"},
	} {
		try(t, s, dir, st)
	}
	was, err := os.ReadFile(filepath.Join(dir, "scans/2025/FH-01.tif"))
	got, gerr := os.ReadFile(filepath.Join(dir, "back.tif"))
	if err != nil || gerr != nil || !bytes.Equal(was, got) {
		t.Errorf("it came back otherwise: %v, %v", err, gerr)
	}
	if b, err := os.ReadFile(filepath.Join(dir, "sheet.html")); err != nil ||
		!bytes.Contains(b, []byte("RECOVERY SHEET for kept")) {
		t.Errorf("the page: %v", err)
	}
}
