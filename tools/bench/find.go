package main

import (
	"bytes"
	"fmt"
	"time"
)

// find looks through a million objects for what is rare, and counts what is common.
func (b *bench) find() error {
	const n = 1_000_000
	if err := b.equal("found", n); err != nil {
		return err
	}
	if _, err := b.db.Exec(`update heads h set metadata = jsonb_build_object('sheet', h.crc64::text, 'taxon', 'taxon ' || h.crc64 % 300,
		'dpi', (300 + h.crc64 % 5 * 100)::text) from buckets b where b.id = h.bucket and b.name = 'found'`); err != nil {
		return err
	}
	if _, err := b.db.Exec("vacuum analyze heads"); err != nil {
		return err
	}
	for _, x := range []struct {
		what, wanted string
		args         []string
		says         string
	}{
		{"find, first 100 of a common value", "100 ms", []string{"field taxon is \"taxon 7\"", "--limit", "100"}, `"bucket":"found"`},
		{"find, a value that one of 1,000,000 has", "100 ms", []string{"field sheet is 999999", "--limit", "1"}, `"bucket":"found"`},
		{"find, nothing", "", []string{"field taxon is nothing"}, ""},
		{"count of a range", "1 s", []string{"field dpi over 500", "--count"}, `"objects":`},
	} {
		start := time.Now()
		out, err := b.cli(append([]string{"find"}, x.args...)...)
		if err != nil {
			return err
		}
		if !bytes.Contains(out, []byte(x.says)) {
			return fmt.Errorf("%s: %s", x.what, out)
		}
		took := time.Since(start)
		against := "of 1,000,000 objects with three fields each"
		if x.says == "" {
			against = fmt.Sprintf("%.0f objects looked at a second", n/took.Seconds())
		}
		b.row(x.what, ms(took), against, x.wanted)
	}
	return nil
}
