package desk

import (
	"context"
	"regexp"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/query"
)

// SavedFind is a question of find under a name.
type SavedFind struct {
	Name       string    `json:"name"`
	Expression string    `json:"expression"`
	Buckets    []string  `json:"buckets,omitempty"`
	Versions   bool      `json:"versions,omitempty"`
	Saved      time.Time `json:"saved"`
	By         string    `json:"by"`
}

func (d *Desk) savedFinds(ctx context.Context, _ *struct{}) (*struct {
	Body struct {
		Finds []SavedFind `json:"finds"`
	}
}, error) {
	list, err := d.store.Catalog.SavedFinds(ctx, who(ctx).subject.Account)
	if err != nil {
		return nil, err
	}
	out := &struct {
		Body struct {
			Finds []SavedFind `json:"finds"`
		}
	}{}
	out.Body.Finds = []SavedFind{}
	for _, f := range list {
		out.Body.Finds = append(out.Body.Finds, SavedFind{f.Name, f.Expression, f.Buckets, f.Versions, f.Saved.UTC(), f.By})
	}
	return out, nil
}

var savedName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

func (d *Desk) saveFind(ctx context.Context, in *struct {
	Name string `path:"name" maxLength:"63"`
	Body struct {
		Expression string   `json:"expression" maxLength:"4000"`
		Buckets    []string `json:"buckets,omitempty" maxItems:"1000"`
		Versions   bool     `json:"versions,omitempty"`
	}
}) (*struct{}, error) {
	if !savedName.MatchString(in.Name) {
		return nil, fault.New(fault.Invalid, "find-name", "%q is no name for a question", in.Name).In("name").
			Do("take small letters, digits and hyphens")
	}
	by := author(ctx)
	by.At = d.store.Catalog.Now()
	if _, err := query.Parse(in.Body.Expression, by.At); err != nil {
		return nil, err
	}
	return nil, d.store.Catalog.SaveFind(ctx, who(ctx).subject.Account, catalog.SavedFind{Name: in.Name, Expression: in.Body.Expression,
		Buckets: in.Body.Buckets, Versions: in.Body.Versions}, by)
}

func (d *Desk) forgetFind(ctx context.Context, in *struct {
	Name string `path:"name" maxLength:"63"`
}) (*struct{}, error) {
	by := author(ctx)
	by.At = d.store.Catalog.Now()
	return nil, d.store.Catalog.ForgetFind(ctx, who(ctx).subject.Account, in.Name, by)
}
