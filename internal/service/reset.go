package service

import (
	"context"
	"errors"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/keyring"
	"spindle/internal/postgres"
)

// ResetPerson gives somebody a new password from the machine that has the data
// directory, whether the service runs or not; it is changed at the next sign-in.
// With operator, who is not there is made, and operates the service. The errors
// have the codes data-missing, data-empty and person-missing.
func ResetPerson(ctx context.Context, data, database, name string, operator bool, log *slog.Logger) (password string,
	err error) {
	if data == "" {
		return "", fault.New(fault.Invalid, "data-missing", "no data directory is given").In("data").
			Do("give the service's: --data DIR")
	}
	if _, err := os.Stat(filepath.Join(data, "master.key")); errors.Is(err, fs.ErrNotExist) && database == "" {
		return "", fault.New(fault.NotFound, "data-empty", "%s is no data directory of a service", data).In("data").
			Do("give the one that spindle serve has")
	}
	if database == "" {
		dir := filepath.Join(data, "postgres")
		url, running := postgres.Running(dir, "postgres")
		if !running {
			pg, err := postgres.Start(ctx, dir, log)
			if err != nil {
				return "", err
			}
			defer pg.Stop()
			url = pg.URL("postgres")
		}
		database = url
	}
	cat, err := open(ctx, database)
	if err != nil {
		return "", err
	}
	defer cat.Close()
	_, password = keyring.Generate()
	password = password[:20]
	coded, err := keyring.HashPassword(ctx, password)
	if err != nil {
		return "", err
	}
	by := catalog.Author{At: time.Now().UTC(), Who: access.Machine}
	err = cat.ChangePerson(ctx, name, 0, by, access.TrailPassword, func(p *catalog.PersonRow) error {
		p.Password, p.MustChange = coded, true
		if operator {
			p.Operator, p.Active = true, true
		}
		return nil
	})
	if operator && fault.HasCode(err, "person-missing") {
		err = cat.CreatePerson(ctx, catalog.PersonRow{Name: name, Password: coded, Operator: true, Active: true,
			MustChange: true}, by)
	}
	return password, err
}
