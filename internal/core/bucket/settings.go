package bucket

import (
	"maps"
	"slices"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/tier"
)

// Settings of a bucket.
type Settings struct {
	Versioning object.Versioning
	Quota      *int64 // bytes of current and previous versions, at least 1; nil: none
	Tags       object.Tags
	Sealing    bool   // new bodies are encrypted at rest
	Tier       string // where new bodies go that name no other; "" for main
	Placement  string // that says where they go and whether they are sealed; "" for none
	Required   Requirements
	Journal    Journal
}

// Journal says how long the changes of a bucket's objects are kept on record.
type Journal struct {
	Days   int  // at least; 0: as long as the service keeps its journal
	Paused bool // changes are not recorded; what is there stays
}

// MaxJournalDays is how long a journal is kept at the most.
const MaxJournalDays = 36_500

// Check refuses settings that no bucket can have. The errors have the codes
// quota-value, journal-days and requirement.
func (s Settings) Check() error {
	if s.Quota != nil && *s.Quota <= 0 {
		return fault.New(fault.Invalid, "quota-value", "a quota is at least 1 byte").In("quota").
			Do("give a size such as 400MiB, or none to remove it")
	}
	if s.Journal.Days < 0 || s.Journal.Days > MaxJournalDays {
		return fault.New(fault.Invalid, "journal-days", "a journal is kept 1 to %d days, not %d", MaxJournalDays,
			s.Journal.Days).
			In("journal").Do("give days, or ever for as long as the service keeps its own")
	}
	return s.checkRequired()
}

// Clone gives settings that share nothing with s.
func (s Settings) Clone() Settings {
	s.Tags, s.Required = maps.Clone(s.Tags), slices.Clone(s.Required)
	if s.Quota != nil {
		quota := *s.Quota
		s.Quota = &quota
	}
	return s
}

// Differences gives the settings in which s differs from those before, by name, as
// records show them: nil for what was taken away.
func (s Settings) Differences(before Settings) map[string]any {
	d := map[string]any{}
	if s.Versioning != before.Versioning {
		d["versioning"] = s.Versioning.String()
	}
	if !same(s.Quota, before.Quota) {
		d["quota"] = valueOf(s.Quota)
	}
	if !maps.Equal(s.Tags, before.Tags) {
		d["tags"] = s.Tags
		if s.Tags == nil {
			d["tags"] = object.Tags{}
		}
	}
	if s.Sealing != before.Sealing {
		d["sealing"] = s.Sealing
	}
	if s.Tier != before.Tier {
		d["tier"] = s.Tier
	}
	if s.Placement != before.Placement {
		d["placement"] = s.Placement
	}
	if s.Journal.Days != before.Journal.Days {
		d["journal days"] = s.Journal.Days
	}
	if s.Journal.Paused != before.Journal.Paused {
		d["journal paused"] = s.Journal.Paused
	}
	if !s.Required.same(before.Required) {
		d["required"] = s.Required
		if s.Required == nil {
			d["required"] = Requirements{}
		}
	}
	return d
}

func same[T comparable](a, b *T) bool { return valueOf(a) == valueOf(b) }

func valueOf[T any](p *T) any {
	if p == nil {
		return nil
	}
	return *p
}

// Edit changes settings as they are found, or refuses to.
type Edit func(*Settings) error

// Versioning sets whether previous versions are kept.
func Versioning(v object.Versioning) Edit {
	return func(s *Settings) error { s.Versioning = v; return nil }
}

// Quota sets or (nil) takes away the quota, in bytes.
func Quota(bytes *int64) Edit {
	return func(s *Settings) error { s.Quota = bytes; return nil }
}

// Tags replaces the tags.
func Tags(t object.Tags) Edit {
	return func(s *Settings) error { s.Tags = t; return nil }
}

// EditTags changes some tags. The errors are those of object.NewTags.
func EditTags(e object.Edit) Edit {
	return func(s *Settings) (err error) {
		s.Tags, err = object.NewTags(e.Apply(s.Tags, false), object.MaxBucketTags)
		return err
	}
}

// Sealing sets whether new bodies are encrypted at rest.
func Sealing(on bool) Edit {
	return func(s *Settings) error { s.Sealing = on; return nil }
}

// JournalDays sets how long the journal is kept, in days; 0 for as long as the service's.
func JournalDays(days int) Edit {
	return func(s *Settings) error { s.Journal.Days = days; return nil }
}

// PauseJournal sets whether changes of objects are not recorded.
func PauseJournal(paused bool) Edit {
	return func(s *Settings) error { s.Journal.Paused = paused; return nil }
}

// Tier sets where new bodies go, by a tier's name.
func Tier(name string) Edit {
	return func(s *Settings) error {
		if s.Tier = name; name == tier.MainName {
			s.Tier = ""
		}
		return nil
	}
}

// Placement sets the placement, by its name; "" takes it away, and leaves tier and sealing
// as they are.
func Placement(name string) Edit {
	return func(s *Settings) error { s.Placement = name; return nil }
}
