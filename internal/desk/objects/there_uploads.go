package objects

import (
	"context"
	"errors"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"spindle/internal/api"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/desk/middle"
	"spindle/internal/remote"
	"spindle/internal/wire/client"
)

// uploadsAtOnce is how many uploads at an endpoint are asked for their parts side by side.
const uploadsAtOnce = 8

func (d *Desk) uploadsThere(ctx context.Context, in *struct {
	TherePath
	Prefix string `query:"prefix" maxLength:"1024"`
	After  string `query:"after" maxLength:"4096" doc:"The next of the page before"`
	Limit  int    `query:"limit" minimum:"1" maximum:"200" default:"100"`
}) (*struct{ Body api.UploadTherePage }, error) {
	out := &struct{ Body api.UploadTherePage }{api.UploadTherePage{Uploads: []api.UploadThere{}}}
	return out, d.asked(ctx, in.Endpoint, func(ctx context.Context, c *remote.Conn) error {
		id, key, _ := strings.Cut(in.After, "\n")
		page, err := c.Client.UploadPage(ctx, in.There, in.Prefix, key, id, in.Limit)
		if err != nil {
			return err
		}
		if page.More {
			out.Body.Next = page.AfterID + "\n" + page.AfterKey
		}
		out.Body.Uploads, err = held(ctx, c, in.There, page.Uploads)
		return err
	})
}

// held tells what uploads at an endpoint hold. Those that ended meanwhile are left out.
func held(ctx context.Context, c *remote.Conn, bucket string, list []client.Begun) ([]api.UploadThere, error) {
	all := make([]api.UploadThere, len(list))
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(uploadsAtOnce)
	for i, u := range list {
		g.Go(func() error {
			parts, err := c.Client.Parts(ctx, bucket, u.Key, u.ID)
			if fault.KindOf(err) == fault.NotFound {
				return nil
			}
			all[i] = api.UploadThere{Key: u.Key, ID: u.ID, Started: u.Started, Parts: len(parts)}
			for _, p := range parts {
				all[i].Bytes += p.Size
			}
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	out := []api.UploadThere{}
	for _, u := range all {
		if u.ID != "" {
			out = append(out, u)
		}
	}
	return out, nil
}

// errEnough ends a listing early.
var errEnough = errors.New("as many as a call takes")

// abandonedAtOnce is how many uploads at an endpoint a call abandons.
const abandonedAtOnce = 200

// startedBefore gives uploads beneath a prefix that were started before a moment, as many as a call abandons, and
// whether there are more.
func startedBefore(ctx context.Context, c *remote.Conn, bucket, prefix string, before time.Time) (list []client.Begun,
	more bool, err error) {
	err = c.Client.Uploads(ctx, bucket, prefix, func(u client.Begun) error {
		switch {
		case !u.Started.Before(before):
			return nil
		case len(list) == abandonedAtOnce:
			return errEnough
		}
		list = append(list, u)
		return nil
	})
	if errors.Is(err, errEnough) {
		return list, true, nil
	}
	return list, false, err
}

func (d *Desk) abandonThere(ctx context.Context, in *struct {
	TherePath
	Body api.AbandonThereAsk
}) (*quantityOut, error) {
	b := in.Body
	if (b.ID == "") == (b.OlderThan == "") {
		return nil, fault.New(fault.Invalid, "uploads-unnamed", "name one upload, or a time with olderThan").In("olderThan").
			Do("give key and id of one, or olderThan for all that were started before")
	}
	var before time.Time
	if b.OlderThan != "" {
		var err error
		if before, err = object.ParseMoment(b.OlderThan, d.Store.Now(middle.Author(ctx)).At); err != nil {
			return nil, err
		}
	}
	var q api.Quantity
	err := d.asked(ctx, in.Endpoint, func(ctx context.Context, c *remote.Conn) error {
		list := []client.Begun{{Key: b.Key, ID: b.ID}}
		if b.OlderThan != "" {
			var err error
			if list, q.More, err = startedBefore(ctx, c, in.There, b.Prefix, before); err != nil {
				return err
			}
		}
		uploads, err := held(ctx, c, in.There, list)
		if err == nil && b.ID != "" && len(uploads) == 0 {
			err = fault.New(fault.NotFound, "upload-missing", "there is no such upload").In("id").
				Do("list them: spindle upload list @%s/%s", in.Endpoint, in.There)
		}
		if err != nil {
			return err
		}
		for _, u := range uploads {
			if !b.Rehearse {
				if err := c.Client.AbandonUpload(ctx, in.There, u.Key, u.ID); err != nil {
					return err
				}
				if err := c.EndUpload(ctx, in.There, u.Key, u.ID); err != nil {
					return err
				}
			}
			q.Objects++
			q.Bytes += u.Bytes
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return &quantityOut{q}, nil
}
