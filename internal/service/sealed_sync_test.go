package service_test

import (
	"bytes"
	crand "crypto/rand"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"spindle/internal/catalog"
	"spindle/internal/core/object"
	"spindle/internal/core/runs"
	"spindle/internal/core/sealing"
	"spindle/internal/core/syncing"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/standin"
	"spindle/internal/wire/client"
)

// sealedJob adds a job whose target is sealed with a passphrase.
func sealedJob(t *testing.T, r *harness.Running, name, from, to string, more func(*syncing.Job)) *syncing.Job {
	t.Helper()
	mark, keys, err := sealing.New(sealingWords, true)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := r.Keys.SealSecret(catalog.SyncSecret(mark.Recipient), string(keys.Master()))
	if err != nil {
		t.Fatal(err)
	}
	return syncJob(t, r, name, from, to, syncing.Mirror, func(j *syncing.Job) {
		if j.Seals, j.Secret = mark, secret; more != nil {
			more(j)
		}
	})
}

const sealingWords = "linen thread on a wooden reel"

// A sealed copy at an endpoint that keeps versions is brought back, after a bad day, as it
// was before; another passphrase at the same place is refused.
func TestSealedCopiesComeBack(t *testing.T) {
	r := harness.Service(t, reaching)
	is, _ := harness.Standin(t, standin.Faults{}, "kept")
	r.StandinEndpoint("annex", is)
	c := r.Client()
	if err := c.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	put := func(key, body string) {
		if _, err := c.Put(t.Context(), "plates", key, strings.NewReader(body), int64(len(body)), client.Put{
			Metadata: object.Metadata{"of": key}, Tags: object.Tags{"kind": "plate"}, ContentType: "image/tiff"}); err != nil {
			t.Fatal(err)
		}
	}
	for i := range 30 {
		put(fmt.Sprintf("2026/FH-%02d.tif", i), strings.Repeat(fmt.Sprint(i), 3000))
	}
	j := sealedJob(t, r, "sealed", "plates", "@annex/kept/s/", nil)
	if run := runJob(t, r, j, false); run.State != runs.Done || run.Tally.Written.Objects != 30 {
		t.Fatalf("%+v", run)
	}
	time.Sleep(1100 * time.Millisecond)
	before := time.Now()
	time.Sleep(1100 * time.Millisecond)
	for i := range 30 {
		put(fmt.Sprintf("2026/FH-%02d.tif", i), "overwritten by mistake")
	}
	if run := runJob(t, r, j, false); run.State != runs.Asking || run.Code != "guard" {
		t.Fatalf("%+v", run)
	}
	if run := runJob(t, r, j, true); run.State != runs.Done { // and somebody says yes all the same
		t.Fatalf("%+v", run)
	}
	if _, err := r.Store.Catalog.Sync(t.Context(), "herbarium", "sealed"); err != nil {
		t.Fatal(err)
	}
	back := j.Back("2026/", &before)
	by := catalog.Author{At: time.Now(), Who: harness.Key}
	if err := r.Store.Catalog.AddSync(t.Context(), back, by); err != nil {
		t.Fatal(err)
	}
	if run := runJob(t, r, back, true); run.State != runs.Done || run.Tally.Written.Objects != 30 {
		t.Fatalf("%+v", run)
	}
	o, err := c.Get(t.Context(), "plates", "2026/FH-07.tif", "", 0, "")
	if err != nil {
		t.Fatal(err)
	}
	defer o.Body.Close()
	var body bytes.Buffer
	if _, err := body.ReadFrom(o.Body); err != nil || body.String() != strings.Repeat("7", 3000) ||
		o.Metadata["of"] != "2026/FH-07.tif" ||
		o.ContentType != "image/tiff" || o.Tags != 1 {
		t.Errorf("%q, %+v, %v", body.String()[:20], o.Info, err)
	}
	other := sealedJob(t, r, "other", "plates", "@annex/kept/s/", nil)
	if run := runJob(t, r, other, false); run.State != runs.Failed || run.Code != "sealed-otherwise" {
		t.Errorf("another passphrase: %+v", run)
	}
}

// The service is killed again and again while it seals a large object and small ones for an
// endpoint; then it is gone for good, and the program alone brings everything back into an
// empty folder. A wrong passphrase is named, and so is a file that was changed there.
func TestFromNothing(t *testing.T) {
	t.Parallel()
	p := &process{t: t, bin: harness.Binary(t), data: dataDir(t)}
	reach := []string{"--reach", "loopback"}
	if err := p.start(reach...); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = p.cmd.Process.Signal(syscall.SIGTERM); _ = p.cmd.Wait() })
	here := p.client()
	versioned(t, here, "plates")
	big := make([]byte, 150<<20)
	_, _ = crand.Read(big)
	write(t, here, "plates", "2026/big.tif", big, client.Put{})
	for i := range 40 {
		write(t, here, "plates", fmt.Sprintf("notes/é %d.txt", i), []byte(fmt.Sprint("content ", i)), client.Put{})
	}
	s, there := harness.Standin(t, standin.Faults{Bandwidth: 40 << 20}, "kept")
	secret, words := secretFile(t, harness.StandinSecret), secretFile(t, sealingWords)
	p.command("endpoint", "add", "annex", "--url", s.URL, "--key", harness.StandinKey, "--secret-from", secret)
	p.command("sync", "create", "nightly", "plates", "@annex/kept/s/", "--sealing", "names", "--passphrase-from", words,
		"--yes")
	p.command("sync", "run", "nightly", "--detach")
	for range 4 {
		time.Sleep(time.Duration(400+rand.IntN(500)) * time.Millisecond)
		_ = p.cmd.Process.Kill()
		_ = p.cmd.Wait()
		if err := p.start(reach...); err != nil {
			t.Fatal(err)
		}
	}
	if out := p.command("sync", "watch", "nightly"); !strings.Contains(out, "done") {
		t.Fatalf("it ended: %s", out)
	}
	if n := s.Counts()["PutPart"]; n > 10+4*4 {
		t.Errorf("%d parts were sent for 10, through 4 kills with 4 under way", n)
	}
	sheet := p.command("sync", "sheet", "nightly")
	_ = p.cmd.Process.Kill()
	_ = p.cmd.Wait()

	dir := filepath.Join(t.TempDir(), "back")
	recovery := func(to, words string, more ...string) (string, error) {
		cmd := exec.Command(p.bin, append([]string{"sync", "recover", "--from", s.URL + "/kept/s/", "--key",
			harness.StandinKey,
			"--secret-from", secret, "--passphrase-from", words, "--to", to}, more...)...)
		cmd.Env = []string{"HOME=" + t.TempDir()}
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	if !strings.Contains(sheet, "spindle sync recover --from "+s.URL+"/kept/s/ --key "+harness.StandinKey) {
		t.Errorf("the sheet says %s", sheet)
	}
	if out, err := recovery(dir, secretFile(t, "some other passphrase")); err == nil ||
		!strings.Contains(out, "not the one") {
		t.Errorf("a wrong passphrase: %s, %v", out, err)
	}
	if out, err := recovery(dir, words, "--rehearse"); err != nil || !strings.Contains(out, "41") {
		t.Errorf("rehearsed: %s, %v", out, err)
	}
	if out, err := recovery(dir, words); err != nil || !strings.Contains(out, "Wrote 41 objects") {
		t.Fatalf("recovered: %s, %v", out, err)
	}
	if b, err := os.ReadFile(filepath.Join(dir, "2026/big.tif")); err != nil || !bytes.Equal(b, big) {
		t.Errorf("the large one has %d bytes, %v", len(b), err)
	}
	if b, err := os.ReadFile(filepath.Join(dir, "notes/é 7.txt")); err != nil || string(b) != "content 7" {
		t.Errorf("a small one is %q, %v", b, err)
	}
	// Without its mark the place is opened with the salt of the sheet.
	salt := strings.Fields(sheet[strings.Index(sheet, "--salt"):])[1]
	if err := there.Remove(t.Context(), "kept", "s/spindle-sealed.json"); err != nil {
		t.Fatal(err)
	}
	if out, err := recovery(t.TempDir(), words, "--salt", salt, "--names", "--prefix", "notes/"); err != nil ||
		!strings.Contains(out, "Wrote 40 objects") {
		t.Errorf("with the salt: %s, %v", out, err)
	}
	page, err := there.List(t.Context(), "kept", "s/", "", "", 1000)
	if err != nil {
		t.Fatal(err)
	}
	o := page.Objects[slices.IndexFunc(page.Objects, func(o client.Listed) bool { return o.Size < 1000 })]
	write(t, there, "kept", o.Key, bytes.Repeat([]byte("x"), int(o.Size)), client.Put{})
	if out, err := recovery(t.TempDir(), words, "--salt", salt, "--names"); err == nil ||
		!strings.Contains(out, "1 failed") {
		t.Errorf("with one spoiled: %s, %v", out, err)
	}
}

// A folder's disk is full in the middle of a run: the run ends and says so, nothing half is
// there, and when there is room the next one brings the rest.
func TestSyncOntoAFullDisk(t *testing.T) {
	disk := t.TempDir()
	if err := unix.Mount("tmpfs", disk, "tmpfs", 0, "size=3m"); err != nil {
		t.Skipf("mounting a small disk is not allowed here: %v", err)
	}
	t.Cleanup(func() { _ = unix.Unmount(disk, unix.MNT_DETACH) })
	r := harness.Service(t, func(cfg *service.Config) { reaching(cfg); cfg.Works.Folders = []string{disk} })
	c := r.Client()
	if err := c.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	body := bytes.Repeat([]byte("x"), 50_000)
	for i := range 120 {
		if _, err := c.Put(t.Context(), "plates", fmt.Sprintf("s/%03d", i), bytes.NewReader(body), int64(len(body)),
			client.Put{}); err != nil {
			t.Fatal(err)
		}
	}
	j := syncJob(t, r, "down", "plates", disk, syncing.Accumulate, nil)
	run := runJob(t, r, j, false)
	if run.State != runs.Failed || run.Code != "disk-full" || run.Tally.Written.Objects < 30 || run.Tally.Failed > 60 {
		t.Fatalf("%+v", run)
	}
	files, err := os.ReadDir(filepath.Join(disk, "s"))
	if err != nil || int64(len(files)) != run.Tally.Written.Objects {
		t.Errorf("%d files for %d objects, %v", len(files), run.Tally.Written.Objects, err)
	}
	for _, f := range files {
		if st, err := f.Info(); err != nil || st.Size() != int64(len(body)) {
			t.Errorf("%s is half there: %v", f.Name(), err)
		}
	}
	if err := unix.Mount("tmpfs", disk, "tmpfs", unix.MS_REMOUNT, "size=30m"); err != nil {
		t.Fatal(err)
	}
	if run := runJob(t, r, j, false); run.State != runs.Done ||
		run.Tally.Same.Objects+run.Tally.Written.Objects != 120 {
		t.Errorf("with room: %+v", run)
	}
}
