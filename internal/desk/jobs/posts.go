package jobs

import (
	"context"
	"crypto/rand"
	"encoding/json"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/posting"
	"spindle/internal/desk/middle"
	work "spindle/internal/works/jobs"
)

func postInfo(p *posting.Post) api.PostInfo {
	return api.PostInfo{Name: p.Name, URL: p.URL, On: p.On, Bucket: p.Bucket, Prefix: p.Prefix, Kinds: p.Kinds,
		Created: p.Created, By: p.Who,
		Behind: p.Behind, Failed: p.Failed, Problem: p.Problem, Posted: p.Posted, Sent: p.Sent}
}

func (d *Desk) postCalls(to *middle.Calls) {
	mine := middle.Rule{Admin: true}
	const one = "/journal/posts/{post}"
	middle.Call(to, mine, "list-posts", "GET /journal/posts", "journal", "List the addresses to which changes are posted",
		d.listPosts)
	middle.Call(to, mine, "show-post", "GET "+one, "journal", "Show one", d.showPost)
	middle.Call(to, mine, "add-post", "POST /journal/posts", "journal", "Have changes posted to an address from now on",
		d.addPost, middle.Answers(201))
	middle.Call(to, mine, "turn-post", "PATCH "+one, "journal", "Pause posting, or go on", d.turnPost)
	middle.Call(to, mine, "try-post", "POST "+one+"/try", "journal", "Post an event that tells of nothing, now", d.tryPost,
		middle.Answers(204))
	middle.Call(to, mine, "remove-post", "DELETE "+one, "journal", "Remove a post", d.removePost, middle.Answers(204))
}

// PostPath names a post of the account one acts in.
type PostPath struct {
	Post string `path:"post" maxLength:"63"`
}

type postOut struct{ Body api.PostInfo }

func (d *Desk) myPost(ctx context.Context, name string) (*posting.Post, error) {
	return d.Store.Catalog.Post(ctx, middle.Who(ctx).Subject.Account, name)
}

func (d *Desk) showPost(ctx context.Context, in *PostPath) (*postOut, error) {
	p, err := d.myPost(ctx, in.Post)
	if err != nil {
		return nil, err
	}
	return &postOut{postInfo(p)}, nil
}

func (d *Desk) listPosts(ctx context.Context, in *struct {
	After string `query:"after" maxLength:"63"`
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (out *struct {
	Body struct {
		Posts []api.PostInfo `json:"posts"`
		Next  string         `json:"next,omitempty"`
	}
}, err error) {
	list, err := d.Store.Catalog.Posts(ctx, middle.Who(ctx).Subject.Account, in.After, in.Limit+1)
	if err != nil {
		return nil, err
	}
	body := &middle.Fresh(&out).Body
	list, body.Next = middle.Cut(list, in.Limit, func(p *posting.Post) string { return p.Name })
	body.Posts = make([]api.PostInfo, len(list))
	for i, p := range list {
		body.Posts[i] = postInfo(p)
	}
	return out, nil
}

func (d *Desk) addPost(ctx context.Context, in *struct{ Body api.NewPost }) (*postOut, error) {
	by := middle.Author(ctx)
	by.At = d.Store.Catalog.Now()
	p := &posting.Post{Account: middle.Who(ctx).Subject.Account, Name: in.Body.Name, URL: in.Body.URL, On: true,
		Bucket: in.Body.Bucket,
		Prefix: in.Body.Prefix, Kinds: in.Body.Kinds}
	if err := p.Check(); err != nil {
		return nil, err
	}
	for _, k := range p.Kinds {
		if _, err := catalog.ParseEntryKind(k); err != nil {
			return nil, fault.From(err).In("kinds")
		}
	}
	if p.Bucket != "" {
		name, err := object.ParseBucketName(p.Bucket)
		if err != nil {
			return nil, err
		}
		if f, err := d.Store.Facts(ctx, name); err != nil || f.Account != p.Account {
			return nil, fault.New(fault.NotFound, "bucket-missing", "there is no bucket %q of this account",
				p.Bucket).In("bucket").
				Do("name one, or none for all")
		}
	}
	secret := rand.Text()
	var err error
	if p.Secret, err = d.Endpoints.Secrets().SealSecret(catalog.PostSecret(p.Account, p.Name), secret); err != nil {
		return nil, err
	}
	if err := d.Store.Catalog.AddPost(ctx, p, by); err != nil {
		return nil, err
	}
	out, err := d.showPost(ctx, &PostPath{p.Name})
	if err == nil {
		out.Body.Secret = secret
	}
	return out, err
}

func (d *Desk) turnPost(ctx context.Context, in *struct {
	PostPath
	Body api.PostChange
}) (*postOut, error) {
	by := middle.Author(ctx)
	by.At = d.Store.Catalog.Now()
	p, err := d.myPost(ctx, in.Post)
	if err == nil {
		err = d.Store.Catalog.TurnPost(ctx, p, in.Body.On, by)
	}
	if err != nil {
		return nil, err
	}
	return d.showPost(ctx, &in.PostPath)
}

func (d *Desk) tryPost(ctx context.Context, in *PostPath) (*struct{}, error) {
	p, err := d.myPost(ctx, in.Post)
	if err != nil {
		return nil, err
	}
	id := middle.Who(ctx)
	if err := d.house.MayCheck(id.Subject.By()); err != nil {
		return nil, err
	}
	d.Gate.Note(catalog.TrailEntry{Kind: access.TrailChecked, Account: id.Subject.Account, Who: id.Subject.By(),
		Source: id.Source, Subject: middle.Limited(p.URL), Detail: map[string]any{"post": p.Name}})
	secret, err := d.Endpoints.Secrets().OpenSecret(catalog.PostSecret(p.Account, p.Name), p.Secret)
	if err != nil {
		return nil, err
	}
	now := d.Store.Catalog.Now().UTC()
	body, err := json.Marshal([]posting.Event{{SpecVersion: "1.0", ID: rand.Text(), Source: "/" + p.Account,
		Type: "spindle.try", Time: now,
		ContentType: "application/json", Data: map[string]any{"says": "this tells of no change"}}})
	if err != nil {
		return nil, err
	}
	return nil, work.Deliver(ctx, d.Endpoints.Dial, p, secret, body, now)
}

func (d *Desk) removePost(ctx context.Context, in *PostPath) (*struct{}, error) {
	by := middle.Author(ctx)
	by.At = d.Store.Catalog.Now()
	p, err := d.myPost(ctx, in.Post)
	if err != nil {
		return nil, err
	}
	return nil, d.Store.Catalog.RemovePost(ctx, p, by)
}
