package remote_test

import (
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"spindle/internal/core/fault"
	"spindle/internal/harness"
	"spindle/internal/remote"
)

// What may be reached is what the operator says, and never where machines keep secrets.
func TestReach(t *testing.T) {
	for _, x := range []struct {
		allow []string
		to    string
		want  bool
	}{
		{nil, "93.184.216.34", true}, {nil, "127.0.0.1", false}, {nil, "10.4.0.11", false}, {nil, "192.168.1.1", false},
		{nil, "172.20.0.1", false}, {nil, "100.64.3.3", false}, {nil, "::1", false}, {nil, "fd00::1", false},
		{nil, "::ffff:127.0.0.1", false}, {nil, "2606:4700::7", true},
		{nil, "64:ff9b::127.0.0.1", false}, {nil, "64:ff9b::a9fe:a9fe", false}, {nil, "64:ff9b:1::10.0.0.1", false},
		{nil, "64:ff9b::5db8:d822", true}, {nil, "2002:7f00:1::", false}, {nil, "2002:5db8:d822::1", true},
		{nil, "::10.0.0.1", false}, {nil, "fec0::1", false}, {nil, "0.1.2.3", false}, {nil, "192.0.0.8", false},
		{nil, "198.18.0.1", false}, {nil, "240.0.0.1", false}, {nil, "203.0.113.7", false}, {nil, "2001:db8::7", false},
		{[]string{"198.18.0.0/15"}, "198.18.0.1", true}, {[]string{"loopback"}, "64:ff9b::127.0.0.1", true},
		{[]string{"loopback"}, "127.0.0.1", true}, {[]string{"loopback"}, "10.0.0.1", false},
		{[]string{"private"}, "10.0.0.1", true}, {[]string{"private"}, "127.0.0.1", false},
		{[]string{"10.4.0.0/16"}, "10.4.0.11", true}, {[]string{"10.4.0.0/16"}, "10.5.0.11", false},
		{[]string{"10.4.0.0/16"}, "::ffff:10.4.0.11", true},
	} {
		r, err := remote.ParseReach(x.allow)
		if err != nil {
			t.Fatal(err)
		}
		if got := r.Allows(netip.AddrPortFrom(netip.MustParseAddr(x.to), 443)); got != x.want {
			t.Errorf("with %v, %s is reached: %v", x.allow, x.to, got)
		}
	}
	for _, s := range []string{"169.254.169.254", "fe80::1", "224.0.0.1", "0.0.0.0", "255.255.255.255",
		"64:ff9b::169.254.169.254",
		"2002:a9fe:a9fe::", "::169.254.169.254"} {
		if !remote.Never(netip.MustParseAddr(s)) {
			t.Errorf("%s is not refused for good", s)
		}
	}
	if _, err := remote.ParseReach([]string{"everything"}); !fault.HasCode(err, "reach") {
		t.Errorf("a network that is none: %v", err)
	}
}

// A circuit opens after failures in a row, lets one try after a pause, and closes when
// that went well; what has nothing to do with the endpoint's being there does not count.
func TestCircuit(t *testing.T) {
	away := fault.New(fault.Unavailable, "unreachable", "away")
	var c remote.Circuit
	now := time.Now()
	for range 20 {
		c.Note(fault.New(fault.Refused, "refused", "no"), now)
	}
	if c.Wait(now) != 0 {
		t.Fatal("refusals opened it")
	}
	for range 4 {
		c.Note(away, now)
	}
	first := c.Wait(now)
	if first <= 0 || !c.Open(now) {
		t.Fatalf("after four failures one waits %s", first)
	}
	now = now.Add(first + time.Millisecond)
	if c.Wait(now) != 0 {
		t.Error("nobody may try after the pause")
	}
	if c.Wait(now) == 0 {
		t.Error("a second one may try beside the first")
	}
	for range 12 {
		c.Note(away, now)
	}
	if w := c.Wait(now); w < 40*time.Second || w > time.Minute {
		t.Errorf("after many failures one waits %s", w)
	}
	c.Note(nil, now)
	if c.Wait(now) != 0 || c.Open(now) {
		t.Error("it stays open after something went well")
	}
}

// Whoever is let through may die, or find nothing to ask: whatever happened, two minutes later somebody may try.
func TestACircuitIsNeverShutForGood(t *testing.T) {
	away := fault.New(fault.Unavailable, "unreachable", "away")
	for _, seed := range harness.Seeds(t, 200) {
		r := rand.New(rand.NewPCG(seed, 1))
		var c remote.Circuit
		now := time.Now()
		for range 60 {
			now = now.Add(time.Duration(r.IntN(3000)) * time.Millisecond)
			switch r.IntN(6) {
			case 0, 1, 2:
				c.Note(away, now)
			case 3:
				c.Wait(now) // and nothing is told
			case 4:
				c.Pass()
			case 5:
				if r.IntN(4) == 0 {
					c.Note(nil, now)
				}
			}
		}
		if wait := c.Wait(now.Add(2 * time.Minute)); wait != 0 {
			t.Fatalf("seed %d: nobody may try for another %s", seed, wait)
		}
	}
}
