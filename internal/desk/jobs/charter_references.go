package jobs

import (
	"context"
	"fmt"
	"strings"

	"spindle/internal/core/access"
	"spindle/internal/core/charter"
	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/query"
	"spindle/internal/desk/middle"
)

// switches are the fields of things that are on or off. They are taken as true and false, too.
var switches = map[string]bool{"sealing": true, "sealed": true, "on": true, "packed": true, "everyone": true,
	"placementFixed": true, "operator": true, "active": true, "deleteMarkers": true, "removals": true, "onward": true,
	"versions": true, "paused": true}

// switched has all that is on or off be said in one way: on and off as true and false, and
// versioning as a word.
func switched(fields map[string]any) {
	for name, v := range fields {
		switch v := v.(type) {
		case string:
			if switches[name] && (v == "on" || v == "off") {
				fields[name] = v == "on"
			}
		case bool:
			if name == "versioning" {
				fields[name] = map[bool]string{true: "on", false: "off"}[v]
			}
		case map[string]any:
			if name == "journal" {
				switched(v)
			}
		}
	}
}

// switchedAll does so for all things of a document.
func switchedAll(tree map[string]any) {
	for i := range charterKinds {
		section, _ := tree[charterKinds[i].section].(map[string]any)
		for _, v := range section {
			if fields, ok := v.(map[string]any); ok {
				switched(fields)
			}
		}
	}
}

// declares gives the names of a kind that a charter declares.
func (c *declared) declares(kind string) (names []string) {
	for _, t := range c.things {
		if t.Kind == kind {
			names = append(names, t.Name)
		}
	}
	return names
}

// keyOf is the part of a grantee that names a key.
func keyOf(to any) (name string, ok bool) {
	kind, name, _ := strings.Cut(plainText(to), ":")
	return name, kind == "key"
}

// named has grants to keys name them by their ids, as far as there are such keys already.
func (d *Desk) named(ctx context.Context, c *declared) error {
	for i := range c.things {
		t := &c.things[i]
		name, ok := keyOf(t.Fields["to"])
		if t.Kind != "grant" || !ok {
			continue
		}
		id, err := d.AnyKeyID(ctx, name)
		if err != nil {
			return err
		}
		t.Fields["to"] = "key:" + id
		t.Name = grantName(t.Fields)
	}
	return nil
}

// unresolved says which thing that a step refers to is neither there nor declared, "" for none.
func (d *Desk) unresolved(ctx context.Context, c *declared, s *charter.Step) (string, error) {
	if s.Want == nil || s.Do == charter.Remove {
		return "", nil
	}
	var addresses []string
	for _, field := range map[string][]string{"grant": {"bucket"}, "replication rule": {"bucket"},
		"sync job": {"from", "to"}, "census": {"from", "to"}}[s.Kind] {
		if v := plainText(s.Want.Fields[field]); v != "" && v[0] != '/' {
			addresses = append(addresses, v)
		}
	}
	if s.Kind == "replication rule" {
		targets, _ := s.Want.Fields["targets"].([]any)
		for _, t := range targets {
			if m, ok := t.(map[string]any); ok {
				addresses = append(addresses, plainText(m["address"]))
			}
		}
	}
	for _, address := range addresses {
		if says, err := d.unresolvedAddress(ctx, c, address); says != "" || err != nil {
			return says, err
		}
	}
	if s.Kind == "grant" {
		return d.unresolvedGrantee(ctx, c, plainText(s.Want.Fields["to"]))
	}
	return "", nil
}

// near adds what was perhaps meant.
func near(says, name string, among []string) string {
	if n := query.Nearest(name, among); n != "" {
		return says + "; did you mean " + n + "?"
	}
	return says
}

func (d *Desk) unresolvedAddress(ctx context.Context, c *declared, address string) (string, error) {
	a, err := endpoint.ParseAddress(address)
	if err != nil {
		return "", nil // the call says what is wrong with it
	}
	if a.Endpoint == "" {
		names := c.declares("bucket")
		for _, n := range names {
			if n == a.Bucket {
				return "", nil
			}
		}
		name, err := object.ParseBucketName(a.Bucket)
		if err != nil {
			return "", nil
		}
		if _, err = d.Store.Owner(ctx, name); !fault.HasCode(err, "bucket-missing") {
			return "", err
		}
		list, err := d.Store.Catalog.Buckets(ctx, middle.Who(ctx).Subject.Account, nil, "", 1000)
		for _, b := range list {
			names = append(names, b.Name.String())
		}
		return near(fmt.Sprintf("there is no bucket %q, and the charter declares none", a.Bucket), a.Bucket, names), err
	}
	names := c.declares("endpoint")
	list, err := d.Store.Catalog.Endpoints(ctx, middle.Who(ctx).Subject.Account, "", 1000)
	if err != nil {
		return "", err
	}
	for _, e := range list {
		names = append(names, e.Name)
	}
	regions, err := d.Store.Catalog.Regions(ctx)
	if err != nil {
		return "", err
	}
	for _, r := range regions {
		names = append(names, r.Name)
	}
	for _, n := range names {
		if n == a.Endpoint {
			return "", nil
		}
	}
	return near(fmt.Sprintf("there is no endpoint %q, and the charter declares none", a.Endpoint), a.Endpoint, names), nil
}

func (d *Desk) unresolvedGrantee(ctx context.Context, c *declared, to string) (string, error) {
	g, err := access.ParseGrantee(to)
	if err != nil {
		return "", nil // the call says what is wrong with it
	}
	if err := d.house.MayMiss(ctx); err != nil {
		return "", err
	}
	missing := false
	switch g.Kind {
	case access.ToKey:
		for _, name := range c.declares("key") {
			if name == g.Name {
				return "", nil
			}
		}
		k, err := d.Gate.Keys.Find(ctx, g.Name) // names of keys that are there are ids by now
		if err != nil {
			return "", err
		}
		missing = k == nil
	case access.ToAccount:
		_, err = d.Store.Catalog.Account(ctx, g.Name)
		missing = fault.HasCode(err, "account-missing")
	case access.ToPerson:
		p, perr := d.Store.Catalog.FindPerson(ctx, g.Name)
		err, missing = perr, perr == nil && p == nil
	}
	if missing {
		d.house.Missed(ctx, "grant to "+middle.Limited(to))
		says := fmt.Sprintf("there is no %s", to)
		if g.Kind == access.ToKey {
			says = near(says+", and the charter declares none", g.Name, c.declares("key"))
		}
		return says, nil
	}
	return "", err
}
