package demo

import (
	"context"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/keyring"
	"spindle/internal/store"
)

// Sealer seals secrets of keys, as a keyring does.
type Sealer interface {
	Seal(id, secret string) ([]byte, error)
}

// SignIn is somebody of the sample data who can sign in.
type SignIn struct{ Name, Password, What string }

// People sign in at the console.
var People = []SignIn{
	{"Oda Brandvold", "peat-and-sphagnum-moss", "operates the service"},
	{"Tam Ellery", "sheet-by-sheet-by-sheet", "administrator of herbarium"},
	{"Ines Varga", "curlews-at-low-tide", "administrator of seed-lab, writer in guest-curators, reader in herbarium"},
}

// Keys are those of applications; a key's id is the application's name.
var Keys = []SignIn{
	{"scanner-2", "flatbed-lamp-and-glass", "writes into plates"},
	{"field-kit", "wellies-and-hand-lens", "writes field-notes, and into germination by a grant"},
	{"mill-writer", "mill-race-at-midnight", "seed-lab's, replicates into attic by a grant"},
	{"press-room", "blotting-paper-dry", "guest-curators', reads plates of one year by a grant"},
}

// owners says whose a bucket is; herbarium's otherwise.
var owners = map[string]string{"germination": "seed-lab"}

// there passes over what an earlier load made.
func there(err error) error {
	switch fault.From(err).Code {
	case "account-exists", "person-exists", "key-exists", "grant-exists":
		return nil
	}
	return err
}

// accounts makes accounts, people and keys.
func accounts(ctx context.Context, s *store.Store, seal Sealer, began, now time.Time) error {
	c := s.Catalog
	by := catalog.Author{At: began, Who: OwnerKey, Source: "10.4.0.11"}
	two, three := int64(2<<30), 3
	for _, a := range []catalog.Account{{Name: Account}, {Name: "seed-lab", Quota: &two, Note: "germination trials"},
		{Name: "guest-curators", MaxBuckets: &three, Note: "visitors, a season at a time"}} {
		if err := c.CreateAccount(ctx, a, by); err != nil && there(err) != nil {
			return err
		}
	}
	roles := map[string][]catalog.Member{
		"Tam Ellery": {{Account: "herbarium", Role: access.Administrator}},
		"Ines Varga": {{Account: "seed-lab", Role: access.Administrator}, {Account: "guest-curators", Role: access.Writer},
			{Account: "herbarium", Role: access.Reader}},
	}
	for i, p := range People {
		coded, err := keyring.HashPassword(ctx, p.Password)
		if err != nil {
			return err
		}
		by.At, by.Who = began.AddDate(0, i, 3*i), access.Machine // whoever sets the service up
		if err := c.CreatePerson(ctx, catalog.PersonRow{Name: p.Name, Password: coded, Operator: i == 0, Active: true,
			Members: roles[p.Name]}, by); err != nil && there(err) != nil {
			return err
		}
	}
	year := now.AddDate(0, 8, 0).Truncate(24 * time.Hour)
	keys := map[string]catalog.AccessKey{
		"scanner-2": {Account: Account, Role: access.Writer, Limits: catalog.Limits{{Bucket: "plates"}},
			Note: "flatbed in the digitisation room"},
		"field-kit": {Account: Account, Role: access.Writer,
			Limits: catalog.Limits{{Bucket: "field-notes"}, {Bucket: "germination"}}, Note: "tablets that go out", Rate: 50,
			Expires: &year},
		"mill-writer": {Account: "seed-lab", Role: access.Writer, Note: "nightly copy from the mill"},
		"press-room":  {Account: "guest-curators", Role: access.Reader, Note: "catalogue proofs", Expires: &year},
	}
	for i, k := range Keys {
		sealed, err := seal.Seal(k.Name, k.Password)
		if err != nil {
			return err
		}
		row := keys[k.Name]
		row.ID, row.Name, row.Sealed, row.Active = k.Name, k.Name, sealed, true
		by.At = began.AddDate(0, i, 5*i)
		if err := c.CreateKey(ctx, row, by); err != nil && there(err) != nil {
			return err
		}
	}
	return nil
}

// grants opens buckets across accounts.
func grants(ctx context.Context, s *store.Store, now time.Time) error {
	read, _ := access.ParseRights("read from")
	write, _ := access.ParseRights("write into")
	replicate, _ := access.ParseRights("replicate into")
	season, past := now.AddDate(0, 3, 0).Truncate(24*time.Hour), now.AddDate(0, -1, 0).Truncate(24*time.Hour)
	for i, g := range []catalog.GrantRow{
		{Bucket: "plates", Prefix: []byte(now.AddDate(-1, 0, 0).Format("2006/")), ToKind: access.ToAccount,
			ToName: "guest-curators", Rights: read, Expires: &season, Note: "for the catalogue of the year"},
		{Bucket: "germination", ToKind: access.ToAccount, ToName: Account, Rights: read},
		{Bucket: "germination", ToKind: access.ToKey, ToName: "field-kit", Rights: write,
			Note: "trays are read in the greenhouse"},
		{Bucket: "attic", ToKind: access.ToKey, ToName: "mill-writer", Rights: replicate},
		{Bucket: "attic", Prefix: []byte("cards/"), ToKind: access.ToAnyone, Rights: read,
			Note: "the card index, for the public page"},
		{Bucket: "loans", ToKind: access.ToPerson, ToName: "Ines Varga", Rights: write, Expires: &past,
			Note: "while Tam was away"},
	} {
		_, err := s.Catalog.CreateGrant(ctx, g, catalog.Author{At: now.AddDate(0, -6, 11*i),
			Who: access.Subject{Kind: access.Person, Name: "Tam Ellery"}.By(), Source: "10.4.0.12"})
		if err != nil && there(err) != nil {
			return err
		}
	}
	return nil
}
