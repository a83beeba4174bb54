package cli_test

import (
	"encoding/json"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"spindle/internal/catalog"
	"spindle/internal/cli"
	"spindle/internal/core/access"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/wire/sign"
)

// TestAccessFromTheCommandLine makes, looks at, changes and takes away all that
// access consists of.
func TestAccessFromTheCommandLine(t *testing.T) {
	s := harness.Service(t, nil)
	steps := func(list []step) {
		t.Helper()
		for _, st := range list {
			var args []string
			quoted := strings.Split(st.args, "'")
			for i, q := range quoted {
				if i%2 == 1 {
					args = append(args, q)
				} else {
					args = append(args, strings.Fields(q)...)
				}
			}
			code, out, errs := run(t, s, "a-secret-brought-along\n", args...)
			if code != st.code || !strings.Contains(out+errs, st.says) {
				t.Errorf("%s: exit %d, want %d and %q\n%s%s", st.args, code, st.code, st.says, out, errs)
			}
		}
	}
	steps([]step{
		{"bucket create plates", 0, "Created"},
		{"bucket create loans --sealing on", 0, "Created"},
		{"access account create seed-lab --quota 2TiB --max-buckets 2 --note trials", 0, "0 of 2"},
		{"access account create seed-lab", 1, "there is an account named"},
		{"access account create Seed", 1, "is no name"},
		{"access account list", 0, "operates the service"},
		{"access account change seed-lab --max-buckets none --quota 3TiB", 0, "3.0 TiB"},
		{"access account change seed-lab", 2, "nothing to change"},
		{"access account show nowhere", 4, "no account"},
		{"bucket create germination --account seed-lab", 0, "Created"},
		{"access account remove seed-lab --yes", 1, "still owns 1 buckets"},
		{"access account remove seed-lab", 2, "--yes"},

		{"access person create 'Ines Varga' --role seed-lab:administrator --role herbarium:reader", 0, "Password"},
		{"access person create 'Ines Varga' --role seed-lab:reader", 1, "there is a person named"},
		{"access person create Nobody", 1, "no role anywhere"},
		{"access person create X --role seed-lab", 2, "ACCOUNT:ROLE"},
		{"access person list", 0, "reader in herbarium, administrator in seed-lab"},
		{"access person show 'Ines Varga'", 0, "new password due"},
		{"access person change 'Ines Varga' --role herbarium:none --active off", 0, "off"},
		{"access person change 'Ines Varga' --active perhaps", 2, "on or off"},
		{"access person reset 'Ines Varga'", 0, "Password"},
		{"access person show Nobody", 4, "no person"},

		{"access key create press-room --account seed-lab --note proofs", 0, "Role         reader"},
		{"access key create scanner-2 --id SCANNER2 --role writer --limit plates --limit loans/2025/ --rate 20 --expires 90d",
			0, "plates, loans/2025/"},
		{"access key create scanner-2 --id SCANNER2", 1, "SCANNER2"},
		{"access key create x --role king", 1, "there is no role"},
		{"access key create x --expires yesterday-ish", 1, "expires"},
		{"access key list", 0, "SCANNER2"},
		{"access key show SCANNER2", 0, "20 requests a second"},
		{"access key change SCANNER2 --no-limits --expires never", 0, "all buckets of herbarium"},
		{"access key change SCANNER2 --limit plates --active off", 0, "off"},
		{"access test --key SCANNER2 --do write plates/x", 3, "refused"},
		{"access explain --key SCANNER2 --do write plates/x", 0, "switched off"},
		{"access key change SCANNER2 --active on", 0, "active"},
		{"access test --key SCANNER2 --do write plates/x", 0, "allowed"},
		{"access test --key SCANNER2 --do read loans/x", 3, "refused"},
		{"access explain --key SCANNER2 --do settings plates", 0, "To change it"},
		{"access explain --key SCANNER2 --anyone plates", 2, "name one"},
		{"access explain --anyone --do read plates/x", 0, "not signed"},

		{"access grant create germination --to key:SCANNER2 --for list,write", 0, "write into"},
		{"access grant create plates/2025/ --to account:seed-lab --for 'read from' --expires 30d --note catalogue", 0,
			"plates/2025/"},
		{"access grant create plates/open/ --to anyone --for read-from", 0, "without a key"},
		{"access grant create plates --to anyone --for administer", 1, "reading and listing only"},
		{"access grant create plates --to nobody --for read-from", 1, "names nobody"},
		{"access grant create plates --to key:SCANNER2", 2, "--for"},
		{"access grant list --bucket plates", 0, "anyone"},
		{"access grant show 2", 0, "catalogue"},
		{"access grant change 2 --for 'write into' --expires never --if-revision 1", 0, "Revision  2"},
		{"access grant change 2 --for administer --if-revision 1", 1, "changed meanwhile"},
		{"bucket show plates", 0, "anyone may read from open/; account seed-lab may write into 2025/"},
		{"bucket list", 0, "anyone"},
		{"access matrix", 0, "account seed-lab"},
		{"access grant remove 3", 2, "--yes"},
		{"access grant remove 3 --yes", 0, "Removed grant 3"},
		{"access grant show 3", 4, "no grant"},

		{"access key replace SCANNER2 --grace 1h", 0, "SCANNER2 works until"},
		{"access key remove SCANNER2 --yes", 0, "Removed key"},
		{"access key show SCANNER2", 4, "no key"},
		{"access session list", 0, "Nobody is signed in"},
		{"access session end 99", 4, "no session"},
		{"access trail --limit 5", 0, "older ones follow"},
		{"access trail --kind 'grant removed'", 0, "plates/open/"},
		{"access trail --subject SCANNER2 --json", 0, `"kind":"key removed"`},
		{"access master-key show", 0, "master.key"},
		{"access master-key rotate", 0, "Back the new master key up"},
		{"access person remove 'Ines Varga' --yes", 0, "Removed person"},

		{"object put ../cli/access_test.go loans/a.go", 0, "Put 1 object"},
		{"object show loans/a.go", 0, "encrypted"},
		{"bucket change loans --sealing off", 0, "kept plain"},
		{"bucket convert loans --rehearse", 0, "1 object to write anew"},
		{"bucket convert loans", 2, "--yes"},
		{"bucket convert loans --yes", 0, "they are plain now"},
		{"bucket convert loans --yes", 0, "0 objects to write anew"},
	})
}

// TestALostPassword is given anew from the machine, while the service runs and
// while it does not, without any key.
func TestALostPassword(t *testing.T) {
	var url string
	s := harness.Service(t, func(c *service.Config) { url = c.Database })
	reset := func(args ...string) (int, string) {
		code, out, errs := runEnv(t, map[string]string{}, "", false,
			append([]string{"access", "person", "reset", "Oda Brandvold", "--json", "--data", s.Config.Data, "--database", url},
				args...)...)
		return code, out + errs
	}
	if code, says := reset(); code != 4 || !strings.Contains(says, "no person") {
		t.Errorf("nobody: %d %s", code, says)
	}
	code, says := reset("--operator")
	var got struct{ Person, Password string }
	if err := json.Unmarshal([]byte(says), &got); code != 0 || err != nil || len(got.Password) < 16 {
		t.Fatalf("made: %d %s", code, says)
	}
	harness.Secretly("a password given from the machine", got.Password)
	if code, out, _ := run(t, s, "", "access", "person", "show", "Oda Brandvold"); code != 0 ||
		!strings.Contains(out, "operator of the service") {
		t.Errorf("%d %s", code, out)
	}
	if code, _, errs := runEnv(t, map[string]string{}, "", false, "access", "person", "reset", "X", "--data",
		t.TempDir()); code != 4 || !strings.Contains(errs, "no data directory") {
		t.Errorf("a directory of something else: %d %s", code, errs)
	}
}

// TestEachRoleOnTheCommandLine makes the same commands as several keys: what one
// may not is refused with exit code 3, says why, and changes nothing.
func TestEachRoleOnTheCommandLine(t *testing.T) {
	s := harness.Service(t, nil)
	if code, _, errs := run(t, s, "", "bucket", "create", "plates"); code != 0 {
		t.Fatal(errs)
	}
	s.Do("PUT", "/plates/2025/a.txt", nil, "content", true)
	s.Do("PUT", "/plates/2026/b.txt", nil, "content", true)
	who := map[string]sign.Credential{
		"reader": s.NewKey("herbarium", "reader", access.Reader, nil),
		"writer": s.NewKey("herbarium", "writer", access.Writer, nil),
		"limited": s.NewKey("herbarium", "limited", access.Reader,
			func(k *catalog.AccessKey) { k.Limits = catalog.Limits{{Bucket: "plates", Prefix: "2025/"}} }),
		"stranger": s.NewKey("seed-lab", "stranger", access.Administrator, nil),
		"guest":    s.NewKey("guest-curators", "guest", access.Writer, nil),
	}
	s.Grant("plates", "2025/", "account:guest-curators", "read from")
	file := filepath.Join(t.TempDir(), "f.txt")
	write(t, file, []byte("f"))
	for _, c := range []struct {
		args string
		may  string // by name, with spaces
	}{
		{"bucket list", "reader writer limited stranger guest"},
		{"bucket show plates", "reader writer limited guest"},
		{"object list plates/", "reader writer"},
		{"object list plates/2025/", "reader writer limited guest"},
		{"object show plates/2025/a.txt", "reader writer limited guest"},
		{"object show plates/2026/b.txt", "reader writer"},
		{"object get plates/2025/a.txt -", "reader writer limited guest"},
		{"object history plates/2025/a.txt", "reader writer limited guest"},
		{"object put " + file + " plates/2025/", "writer"},
		{"object annotate plates/2025/a.txt --tag a=b", "writer"},
		{"object copy plates/2025/a.txt plates/2025/c.txt", "writer"},
		{"object rename plates/2025/c.txt plates/2025/d.txt", "writer"},
		{"object remove plates/2025/d.txt --yes", "writer"},
		{"object remove plates/2026/ --rehearse", "writer"},
		{"journal list", "reader writer stranger guest"},
		{"journal list plates", "reader writer"},
		{"journal list plates/2025/", "reader writer limited guest"},
		{"upload list", "reader writer stranger guest"},
		{"bucket change plates --quota 1GiB", ""},
		{"bucket empty plates --rehearse", "writer"},
		{"bucket convert plates --rehearse", ""},
		{"access key list", "stranger"},
		{"access person list", "stranger"},
		{"access trail", "stranger"},
		{"access matrix", "stranger"},
		{"access grant list", "stranger"},
		{"access grant create plates --to anyone --for read-from", ""},
		{"access account list", "reader writer limited stranger guest"},
		{"access account create x", ""},
		{"access master-key show", ""},
		{"access master-key rotate", ""},
		{"access explain --do read plates/2025/a.txt", "reader writer limited stranger guest"},
		{"access session list", "reader writer limited stranger guest"},
	} {
		for _, name := range []string{"writer", "reader", "limited", "stranger", "guest"} {
			env := map[string]string{"HOME": t.TempDir(), "SPINDLE_URL": s.DeskURL, "SPINDLE_KEY": who[name].ID,
				"SPINDLE_SECRET": who[name].Secret}
			code, out, errs := runEnv(t, env, "", false, strings.Fields(c.args)...)
			may := slices.Contains(strings.Fields(c.may), name)
			switch {
			case may && code != 0:
				t.Errorf("%s as %s: exit %d\n%s%s", c.args, name, code, out, errs)
			case !may && code != cli.ExitRefused && !(code == cli.ExitFailed && strings.Contains(errs, "access: ")):
				t.Errorf("%s as %s, who may not: exit %d\n%s%s", c.args, name, code, out, errs)
			case !may && !strings.Contains(errs, "fix: "):
				t.Errorf("%s as %s says nothing of what would change it:\n%s", c.args, name, errs)
			}
		}
	}
	if _, out, _ := run(t, s, "", "object", "list", "plates", "--flat"); !strings.Contains(out, "2026/b.txt") ||
		!strings.Contains(out, "2025/f.txt") {
		t.Errorf("afterwards the bucket holds:\n%s", out)
	}
}
