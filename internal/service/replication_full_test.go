package service_test

import (
	"bytes"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"spindle/internal/catalog"
	"spindle/internal/core/replication"
	"spindle/internal/core/tier"
	"spindle/internal/harness"
	"spindle/internal/wire/client"
)

// The disk of a target's tier is full: what does not fit waits and says why, puts into the
// source go on, the other target gets everything, and with room all is copied.
func TestReplicationOntoAFullDisk(t *testing.T) {
	disk := t.TempDir()
	if err := unix.Mount("tmpfs", disk, "tmpfs", 0, "size=6m"); err != nil {
		t.Skipf("mounting a small disk is not allowed here: %v", err)
	}
	t.Cleanup(func() { _ = unix.Unmount(disk, unix.MNT_DETACH) })
	r := harness.Service(t, reaching)
	c := r.Client()
	versioned(t, c, "plates", "copies", "others")
	if err := r.Store.AddTier(t.Context(), &tier.Tier{Name: "small", Copies: 1,
		Volumes: []tier.Volume{{Dir: filepath.Join(disk, "small")}}}, catalog.Author{At: time.Now(),
		Who: harness.Key}); err != nil {
		t.Fatal(err)
	}
	rule := r.Replicate(&replication.Rule{Name: "down", Bucket: "plates", Markers: true,
		Targets: []replication.Target{{Bucket: "copies", Class: "small"}, {Bucket: "others"}}})
	const n = 12
	body := bytes.Repeat([]byte("0123456789abcdef"), 700_000/16)
	for i := range n {
		write(t, c, "plates", fmt.Sprintf("s/%02d", i), append(bytes.Clone(body), byte(i)), client.Put{})
	}
	standing := func(i int) *catalog.TargetStanding {
		id := rule.Targets[i].ID
		st, err := r.Store.Catalog.Standing(t.Context(), []int64{id}, time.Now().Add(-time.Hour))
		if err != nil {
			t.Fatal(err)
		}
		return st[id]
	}
	harness.Until(t, "what does not fit says why", func() bool {
		list, err := r.Store.Catalog.WaitingReplicas(t.Context(), rule.Targets[0].ID, true, "", n)
		return err == nil && len(list) > 2 && list[0].Code == "disk-full" && list[0].Says != ""
	})
	harness.Until(t, "the other target has everything", func() bool { return standing(1).Waiting == 0 })
	if p, err := c.List(t.Context(), "others", "", "", "", 100); err != nil || len(p.Objects) != n {
		t.Errorf("%d objects at the other target, %v", len(p.Objects), err)
	}
	if err := unix.Mount("tmpfs", disk, "tmpfs", unix.MS_REMOUNT, "size=60m"); err != nil {
		t.Fatal(err)
	}
	hurry(t, r, rule)
	settled(t, r, rule)
	for i := range n {
		key := fmt.Sprintf("s/%02d", i)
		if diff := same(t.Context(), c, "plates", key, c, "copies", key); diff != "" {
			t.Errorf("%s: %s", key, diff)
		}
	}
}
