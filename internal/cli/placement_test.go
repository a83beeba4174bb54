package cli_test

import (
	"path/filepath"
	"testing"
	"time"

	"spindle/internal/harness"
	"spindle/internal/service"
)

// A tier in pieces is added, offered, given to buckets and repaired; sisters are added and
// accounts admitted to them.
func TestPlacementsAndRegions(t *testing.T) {
	quick := func(region string) func(*service.Config) {
		return func(c *service.Config) {
			c.Region, c.Reach = region, []string{"loopback"}
			c.Works.RepairEvery, c.Works.RegionEvery = 20*time.Millisecond, 100*time.Millisecond
		}
	}
	s, moor := harness.Service(t, quick("fenn")), harness.Service(t, quick("moor"))
	dir := t.TempDir()
	write(t, filepath.Join(dir, "a.tif"), noise(400_000))
	write(t, filepath.Join(dir, "moor.secret"), []byte(harness.Secret+"\n"))
	add := "region add " + moor.DeskURL + " --key " + harness.Key + " --secret-from DIR/moor.secret"
	for _, st := range []step{
		{"tier add press --volume DIR/1 --volume DIR/2 --volume DIR/3 --pieces 2+1", 0, "in 2+1 pieces over 3 volumes"},
		{"tier add few --volume DIR/4 --pieces 2+1", 1, "need 3 volumes, and there are 1"},
		{"tier add few --volume DIR/4 --pieces two", 1, "says no pieces"},
		{"tier add few --volume DIR/4 --pieces 2+1 --copies 2", 1, "copies or pieces, not both"},
		{"tier list", 0, "2+1"},
		{"placement list", 0, "No placement is offered"},
		{"placement add safe --tier press --everyone --note two·disks", 0, "1.50 bytes on volumes"},
		{"placement add safe --tier press", 1, "already"},
		{"placement add gone --tier attic", 4, "no tier"},
		{"placement change safe --offer-to nobody", 4, "no account"},
		{"placement show safe", 0, "everyone"},
		{"bucket create plates --placement none-such", 4, "no placement"},
		{"bucket create plates --versioning on", 0, "Created"},
		{"object put DIR/a.tif plates/", 0, "Put 1 object"},
		{"bucket place plates safe --rehearse", 0, "1 object to write anew"},
		{"bucket place plates safe", 2, "--yes"},
		{"bucket place plates safe --yes", 0, "Wrote 1 object anew"},
		{"bucket show plates", 0, "Placement"},
		{"bucket change plates --tier main", 1, "has the placement safe"},
		{"tier repair press --wait", 0, "done"},
		{"scrub run plates", 0, "1 sound, 0 damaged"},
		{"scrub run plates/none/", 0, "0 sound"},
		{"scrub run nothing", 4, "no bucket"},
		{"scrub show", 0, "Nothing is marked as damaged"},
		{"tier change press --without DIR/9", 4, "has no volume"},
		{"tier change press --without DIR/3", 1, "need 3 volumes, and there are 2"},
		{"tier change press --without DIR/3 --volume DIR/5", 0, "DIR/5"},
		{"access account create seed-lab", 0, "seed-lab"},
		{"access account change seed-lab --placement-fixed on", 1, "none is named"},
		{"access account change seed-lab --placement safe --placement-fixed on", 0, "safe, fixed by"},
		{"placement list --account seed-lab", 0, "have safe"},
		{"placement remove safe --yes", 1, "is used"},
		{"region list", 0, "this one"},
		{add + " --name south", 1, "moor, not south"},
		{add, 0, "moor"},
		{"region admit seed-lab moor", 3, "has none of that name"},
		{"access account change seed-lab --placement-fixed off", 0, ""},
		{"region admit seed-lab moor", 0, "is admitted to the region moor"},
		{"bucket create seedlings --account seed-lab --region moor", 0, "in region moor"},
		{"bucket list", 0, "seedlings"},
		{"bucket show seedlings", 4, "in the region moor"},
		{"access account change seed-lab --region moor", 0, "moor, unless"},
		{"region dismiss seed-lab fenn", 0, "can no longer create buckets"},
		{"bucket create x-seeds --account seed-lab --region fenn", 3, "make the bucket in: moor"},
		{"region show moor", 0, "seed-lab"},
		{"region show south", 4, "choose from: fenn, moor"},
		{"region remove moor --yes", 0, ""},
		{"bucket show seedlings", 4, "there is no bucket"},
	} {
		try(t, s, dir, st)
	}
}
