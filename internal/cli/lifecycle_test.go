package cli_test

import (
	"path/filepath"
	"testing"
	"time"

	"spindle/internal/harness"
	"spindle/internal/service"
)

// TestTiersAndRulesOnTheCommandLine adds tiers, writes rules, rehearses, runs and takes
// back, with what is refused.
func TestTiersAndRulesOnTheCommandLine(t *testing.T) {
	s := harness.Service(t, func(c *service.Config) {
		c.Works.AgeLook, c.Works.RestoreEvery = 20*time.Millisecond, 20*time.Millisecond
	})
	dir := t.TempDir()
	write(t, filepath.Join(dir, "a.tif"), noise(40_000))
	write(t, filepath.Join(dir, "rules.yaml"), []byte("rules:\n- name: stale\n  scope: {prefix: none/}\n"+
		"  actions:\n  - {of: current, do: remove, days: 400}\n"))
	write(t, filepath.Join(dir, "wrong.json"), []byte(`{"name":"x","colour":"red"}`))
	for _, st := range []step{
		{"bucket create plates --versioning on --abandon-after 0", 0, "Created"},
		{"tier list", 0, "main"},
		{"tier add dry --volume DIR/dry --price 0.008 --compression on", 0, "compressed"},
		{"tier add cellar --volume DIR/c1 --volume DIR/c2 --copies 2 --price 0.002 --restore-after 50ms --restored-for 3", 0,
			"restored in"},
		{"tier add Wrong! --volume DIR/w", 1, "no name for a tier"},
		{"tier add more --volume DIR/dry", 1, "is a volume already"},
		{"tier add more --volume DIR/m --copies 2", 1, "need 2 volumes"},
		{"tier add more --volume DIR/m --price lots", 2, "is a number such as 0.021"},
		{"tier change main --price 0.021 --note fast", 0, "0.021"},
		{"tier change main --copies 2", 1, "of the tier main only"},
		{"tier show cellar", 0, "DIR/c2"},
		{"object put DIR/a.tif plates/", 0, "Put 1 object"},
		{"object put DIR/a.tif plates/cold.tif --tier cellar", 0, "Put 1 object"},
		{"object put DIR/a.tif plates/x.tif --tier attic", 1, "1 failed"},
		{"object get plates/cold.tif -", 1, "restored copy only"},
		{"object fetch plates/a.tif", 1, "read at once"},
		{"object fetch plates/cold.tif --days 2", 0, "will be there at"},
		{"object copy plates/a.tif plates/copy.tif --tier dry", 0, "the tier dry"},
		{"lifecycle list plates", 0, ""},
		{"lifecycle add plates old --like *.tif --move dry=30 --move cellar=90 --previous-remove 60 --keep 1", 0,
			"wait until"},
		{"lifecycle add plates old --uploads 7", 1, "a rule \"old\" already"},
		{"lifecycle add plates bad --prefix a* --move cellar=9 --remove 9", 1, "before the move to cellar"},
		{"lifecycle add plates", 2, "--from FILE"},
		{"lifecycle add plates third --remove 3000 --rehearse", 0, "third"},
		{"lifecycle show plates third", 4, "no rule"},
		{"lifecycle add plates --from DIR/rules.yaml --rehearse", 0, "stale"},
		{"lifecycle show plates stale", 4, "no rule"},
		{"lifecycle add plates --from DIR/rules.yaml --grace none", 0, "stale"},
		{"lifecycle add plates --from DIR/wrong.json", 1, "cannot be read"},
		{"lifecycle add plates --from DIR/none", 1, "cannot be read"},
		{"lifecycle list plates", 0, "move the current version to cellar, 90 days after being written"},
		{"lifecycle show plates old", 0, `"of": "previous"`},
		{"lifecycle show plates nothing", 4, "no rule"},
		{"lifecycle rehearse plates --check", 0, "holds nothing today"},
		{"lifecycle change plates old --move dry=0 --grace none", 0, "0 days after being written"},
		{"lifecycle change plates old --active maybe", 2, "is on or off"},
		{"lifecycle rehearse plates", 0, "at once"},
		{"lifecycle change plates old --where current", 1, "cannot be told by current"},
		{"lifecycle change plates old --where size·over·1KiB --grace none", 0, "where size over 1 KiB"},
		{"lifecycle run start plates", 0, "done"},
		{"object show plates/a.tif", 0, "dry"},
		{"lifecycle run list plates", 0, "done"},
		{"lifecycle run show plates 1", 0, "move to dry"},
		{"lifecycle run show plates 99", 4, "no run 99"},
		{"lifecycle run show plates x", 1, "no number of a run"},
		{"lifecycle run stop plates 1", 1, "does not wait"},
		{"lifecycle remove plates old", 0, "stale"},
		{"lifecycle remove plates old", 4, "no rule"},
		{"lifecycle history plates", 0, "rule old removed"},
		{"lifecycle compare plates 1", 0, "removed old"},
		{"lifecycle compare plates 1 3", 0, "changed old"},
		{"lifecycle compare plates 0", 0, "added stale"},
		{"lifecycle put-back plates 0 --grace none", 0, "no rules"},
		{"lifecycle compare plates -- -1", 1, "no revision"},
		{"lifecycle put-back plates 1", 0, "old"},
		{"lifecycle put-back plates 77", 4, "no revision 77"},
		{"tier remove dry --yes", 1, "is used"},
		{"journal list plates", 0, "to dry by rule old, run 1"},
	} {
		try(t, s, dir, st)
	}
}
