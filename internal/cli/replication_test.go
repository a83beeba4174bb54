package cli_test

import (
	"path/filepath"
	"strings"
	"testing"

	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/standin"
)

// TestElsewhereOnTheCommandLine registers endpoints, uses what is there, and keeps objects
// copied, with what is refused.
func TestElsewhereOnTheCommandLine(t *testing.T) {
	s := harness.Service(t, func(cfg *service.Config) { cfg.Reach = []string{"loopback"} })
	is, there := harness.Standin(t, standin.Faults{}, "notes")
	dir := t.TempDir()
	write(t, filepath.Join(dir, "secret"), []byte(harness.StandinSecret+"\n"))
	write(t, filepath.Join(dir, "a.txt"), []byte("a note"))
	annex := "--url " + is.URL + " --key " + harness.StandinKey + " --secret-from DIR/secret"
	for _, st := range []step{
		{"endpoint list", 0, ""},
		{"endpoint add annex --url " + is.URL + " --key NOBODY --secret-from DIR/secret", 1, "its key wrong"},
		{"endpoint add annex --url http://127.0.0.1:9 --key K --secret-from DIR/secret", 1, "its port wrong"},
		{"endpoint add Annex! " + annex, 1, "no name for an endpoint"},
		{"endpoint add annex --key K", 2, "needs --url and --key"},
		{"endpoint add annex " + annex + " --bucket notes --try-writing", 0, "healthy"},
		{"endpoint add annex " + annex, 1, "already"},
		{"endpoint list", 0, "healthy"},
		{"endpoint show annex", 0, "conditional writes"},
		{"endpoint check annex --bucket none", 1, "there is no bucket"},
		{"endpoint change annex --bandwidth 8MiB", 0, "8.0 MiB/s"},
		{"endpoint show nothing", 4, "no endpoint"},

		{"bucket list @annex", 0, "@annex/notes"},
		{"bucket create @annex/loose", 0, "@annex/loose"},
		{"bucket create @annex/bodies", 0, "@annex/bodies"},
		{"tier add far --volume @annex/nowhere", 1, "create the bucket there"},
		{"tier add far --volume @annex/bodies/deep --price 0.004", 0, "@annex/bodies/deep/"},
		{"tier list", 0, "@annex/bodies/deep/"},
		{"tier show far", 0, "at another store"},
		{"bucket create exchange --tier far", 0, "Created"},
		{"bucket show exchange", 0, "whose bytes are at @annex/bodies/deep/"},
		{"object put DIR/a.txt exchange/", 0, "Put 1 object"},
		{"object get exchange/a.txt -", 0, "a note"},
		{"object list @annex/bodies/deep/", 0, "volume.json"},
		{"endpoint remove annex --yes", 1, "the tier far keeps its bodies"},
		{"object remove exchange/a.txt --yes", 0, "Removed"},
		{"bucket remove exchange --yes", 0, "Removed"},
		{"tier remove far --yes", 0, "Removed"},
		{"bucket change @annex/loose --versioning on", 0, "on"},
		{"bucket change @annex/loose --quota 1MiB", 2, "not for what is at an endpoint"},
		{"object put DIR/a.txt @annex/loose/deep/ --metadata taxon=Drosera", 0, "Put 1 object"},
		{"object list @annex/loose", 0, "deep/"},
		{"object show @annex/loose/deep/a.txt", 0, "Drosera"},
		{"object get @annex/loose/deep/a.txt -", 0, "a note"},
		{"object get @annex/loose/deep/a.txt DIR/a.txt", 1, "is there already"},
		{"object copy @annex/loose/deep/ @annex/notes/copied/", 0, "Copied 1 object"},
		{"bucket create plates", 0, "Created"},
		{"object copy @annex/notes/copied/a.txt plates/", 0, "Copied 1 object"},
		{"object show plates/a.txt", 0, "Drosera"},
		{"object copy plates/a.txt @annex/loose/back.txt", 0, "Copied 1 object"},
		{"object list @nowhere/notes", 4, "no endpoint"},
		{"object history @annex/loose/back.txt", 1, "done with what is here alone"},
		{"object remove @annex/loose/back.txt --yes", 0, "Removed"},
		{"bucket remove @annex/loose --yes", 1, "not empty"},

		{"replication add out --from plates --to @annex/plates --existing leave", 1, "versioning of plates is off"},
		{"replication add out --from plates --to @annex/plates --review", 0, "There already, for @annex/plates: 1 object"},
		{"replication add out --from plates --to @annex/plates --mend", 2, "--existing leave or --existing backfill"},
		{"replication add out --from plates --to plates --existing leave", 1, "its own target"},
		{"replication add out --from plates --to @annex/plates --mend --existing backfill --lag-target 99/1m", 0,
			"99 percent"},
		{"replication list", 0, "@annex/plates"},
		{"endpoint remove annex --yes", 1, "the replication rule out copies"},
	} {
		try(t, s, dir, st)
	}
	harness.Until(t, "the copy", func() bool {
		_, err := there.Head(t.Context(), "plates", "a.txt")
		return err == nil
	})
	harness.Until(t, "its state", func() bool {
		_, out, _ := run(t, s, "", "replication", "status", "plates/a.txt")
		return strings.Contains(out, "completed")
	})
	if err := there.Remove(t.Context(), "plates", "a.txt"); err != nil {
		t.Fatal(err)
	}
	for _, st := range []step{
		{"replication verify out --check", 5, "1 missing"},
		{"replication verify out --repair", 0, "1 is copied again"},
	} {
		try(t, s, dir, st)
	}
	// What comes is not what its digest is of: no file is left, and the command fails.
	if err := is.Set(standin.Faults{Rot: 1}); err != nil {
		t.Fatal(err)
	}
	for _, st := range []step{{"object get @annex/loose/deep/a.txt DIR/rotten.txt", 1, "are not those"},
		{"object get @annex/loose/deep/a.txt -", 1, "are not those"}} {
		try(t, s, dir, st)
	}
	if err := is.Set(standin.Faults{}); err != nil {
		t.Fatal(err)
	}
	if list, err := filepath.Glob(filepath.Join(dir, "*rotten*")); err != nil || len(list) > 0 {
		t.Errorf("what was damaged is %v, %v", list, err)
	}
	harness.Until(t, "the repair", func() bool {
		_, err := there.Head(t.Context(), "plates", "a.txt")
		return err == nil
	})
	for _, st := range []step{
		{"replication verify out --deep --check", 0, "all there as they are"},
		{"replication retry out", 0, "tried now"},
		{"replication change out --state off --priority 7", 0, "paused"},
		{"replication change out", 2, "nothing to change"},
		{"replication backfill out --yes", 0, "under way"},
		{"replication status out", 0, "Priority"},
		{"replication status nothing", 4, "no replication rule"},
		{"replication remove out --yes", 0, "Removed"},
		{"endpoint remove annex --yes", 0, "Removed"},
	} {
		try(t, s, dir, st)
	}
}
