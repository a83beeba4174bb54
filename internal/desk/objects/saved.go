package objects

import (
	"context"
	"encoding/json"
	"regexp"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/query"
	"spindle/internal/desk/middle"
)

// SavedName is how what is kept under a name is called.
type SavedName struct {
	Name string `path:"name" maxLength:"63"`
}

var savedNamePattern = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

func checkQuestion(q *api.Question, now time.Time) error {
	_, err := query.Parse(q.Expression, now)
	return err
}

func checkFilter(f *api.JournalFilter) error {
	if f.Bucket != "" {
		if _, err := object.ParseBucketName(f.Bucket); err != nil {
			return err
		}
	}
	for _, k := range f.Kinds {
		if _, err := catalog.ParseEntryKind(k); err != nil {
			return err
		}
	}
	return object.CheckText("prefix", f.Prefix)
}

func (d *Desk) savedFinds(ctx context.Context, _ *struct{}) (*struct {
	Body struct {
		Finds []api.SavedFind `json:"finds"`
	}
}, error) {
	out := &struct {
		Body struct {
			Finds []api.SavedFind `json:"finds"`
		}
	}{}
	out.Body.Finds = []api.SavedFind{}
	return out, d.eachSaved(ctx, catalog.SavedFind, func(s catalog.Saved) error {
		f := api.SavedFind{Name: s.Name, Saved: s.Saved.UTC(), By: s.By}
		err := json.Unmarshal(s.Says, &f.Question)
		out.Body.Finds = append(out.Body.Finds, f)
		return err
	})
}

func (d *Desk) savedFilters(ctx context.Context, _ *struct{}) (*struct {
	Body struct {
		Filters []api.SavedFilter `json:"filters"`
	}
}, error) {
	out := &struct {
		Body struct {
			Filters []api.SavedFilter `json:"filters"`
		}
	}{}
	out.Body.Filters = []api.SavedFilter{}
	return out, d.eachSaved(ctx, catalog.SavedJournal, func(s catalog.Saved) error {
		f := api.SavedFilter{Name: s.Name, Saved: s.Saved.UTC(), By: s.By}
		err := json.Unmarshal(s.Says, &f.JournalFilter)
		out.Body.Filters = append(out.Body.Filters, f)
		return err
	})
}

func (d *Desk) eachSaved(ctx context.Context, of catalog.SavedKind, f func(catalog.Saved) error) error {
	list, err := d.Store.Catalog.Saved(ctx, middle.Who(ctx).Subject.Account, of)
	for i := 0; err == nil && i < len(list); i++ {
		err = f(list[i])
	}
	return err
}

func (d *Desk) saveFind(ctx context.Context, in *struct {
	SavedName
	Body api.Question
}) (*struct{}, error) {
	return nil, d.save(ctx, catalog.SavedFind, in.Name, &in.Body,
		func(now time.Time) error { return checkQuestion(&in.Body, now) })
}

func (d *Desk) saveFilter(ctx context.Context, in *struct {
	SavedName
	Body api.JournalFilter
}) (*struct{}, error) {
	return nil, d.save(ctx, catalog.SavedJournal, in.Name, &in.Body,
		func(time.Time) error { return checkFilter(&in.Body) })
}

func (d *Desk) save(ctx context.Context, of catalog.SavedKind, name string,
	says any, check func(now time.Time) error) error {
	if !savedNamePattern.MatchString(name) {
		return fault.New(fault.Invalid, "saved-name", "nothing can be saved as %q", name).In("name").
			Do("take small letters, digits and hyphens")
	}
	by := middle.Author(ctx)
	by.At = d.Store.Catalog.Now()
	if err := check(by.At); err != nil {
		return err
	}
	return d.Store.Catalog.Save(ctx, middle.Who(ctx).Subject.Account, of, name, says, by)
}

// forgetSaved gives the call that takes away what is kept of a kind.
func (d *Desk) forgetSaved(of catalog.SavedKind) func(context.Context, *SavedName) (*struct{}, error) {
	return func(ctx context.Context, in *SavedName) (*struct{}, error) {
		by := middle.Author(ctx)
		by.At = d.Store.Catalog.Now()
		return nil, d.Store.Catalog.Forget(ctx, middle.Who(ctx).Subject.Account, of, in.Name, by)
	}
}
