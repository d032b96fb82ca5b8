package records_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/fault"
	"jugate/core/rights"
	"jugate/records"
)

var everything = string(rights.Everything)

func TestPeopleAndWhatTheyMayDo(t *testing.T) {
	db, _ := open(t)
	ctx := t.Context()
	require.NoError(t, db.AddGroup(ctx, "herbarium"))
	ines, err := db.AddPerson(ctx, records.Person{Name: "ines", FullName: "Ines Fairholm", Added: noon, Grants: []records.Grant{{Role: "administrator", Kind: everything}}})
	require.NoError(t, err)
	_, err = db.AddPerson(ctx, records.Person{Name: "INES", Added: noon})
	assert.ErrorIs(t, err, fault.Conflict)
	_, err = db.AddPerson(ctx, records.Person{Name: "tomas", Added: noon, Grants: []records.Grant{{Role: "engineer", Kind: "group", Name: "Herbarium"}, {Role: "reader", Kind: everything}}})
	require.NoError(t, err)
	for name, g := range map[string]records.Grant{"no role": {Role: "gardener", Kind: everything}, "no group": {Role: "reader", Kind: "group", Name: "none"}, "no image": {Role: "reader", Kind: "image", Name: "none"}} {
		_, err = db.AddPerson(ctx, records.Person{Name: "wren", Added: noon, Grants: []records.Grant{g}})
		assert.ErrorIs(t, err, fault.NotFound, name)
	}
	all, err := db.People(ctx)
	require.NoError(t, err)
	require.Len(t, all, 2, "a grant that cannot be leaves nobody")
	assert.Equal(t, []records.Grant{{PersonID: all[1].ID, Role: "reader", Kind: everything}, {PersonID: all[1].ID, Role: "engineer", Kind: "group", Name: "herbarium"}}, all[1].Grants)

	t.Log("# somebody has to be left who may administer")
	shutOut := func(p *records.Person) error { p.ShutOut = true; return nil }
	assert.ErrorContains(t, db.ChangePerson(ctx, "ines", shutOut), "nobody would be left")
	assert.ErrorContains(t, db.RemovePerson(ctx, "ines"), "nobody would be left")
	require.NoError(t, db.PutRole(ctx, "keeper", "of the herbarium", []rights.Right{rights.Administer, rights.See}))
	require.NoError(t, db.ChangePerson(ctx, "Tomas", func(p *records.Person) error {
		p.Grants = append(p.Grants, records.Grant{Role: "keeper", Kind: everything})
		return nil
	}))
	require.NoError(t, db.ChangePerson(ctx, "ines", shutOut), "now another may")
	assert.ErrorIs(t, db.ChangePerson(ctx, "nobody", shutOut), fault.NotFound)
	assert.ErrorContains(t, db.PutRole(ctx, "keeper", "", []rights.Right{rights.See}), "nobody would be left")
	assert.ErrorContains(t, db.RemoveRole(ctx, "keeper"), "the role keeper is granted to tomas")
	assert.ErrorIs(t, db.RemoveRole(ctx, "none"), fault.NotFound)
	roles, err := db.Roles(ctx)
	require.NoError(t, err)
	require.Len(t, roles, 1)
	has, err := roles[0].Rights()
	require.NoError(t, err)
	assert.Equal(t, []rights.Right{rights.Administer, rights.See}, has)

	t.Log("# a group takes its grants along")
	require.NoError(t, db.RemoveGroup(ctx, "herbarium"))
	tomas, err := db.Person(ctx, "tomas")
	require.NoError(t, err)
	assert.Len(t, tomas.Grants, 2)
	require.NoError(t, db.SeenPerson(ctx, noon, ines))
	require.NoError(t, db.RemovePerson(ctx, "ines"))
	_, err = db.PersonOf(ctx, ines)
	assert.ErrorIs(t, err, fault.NotFound)
}

func TestTokensAndSessionsAreOfPeople(t *testing.T) {
	db, _ := open(t)
	ctx := t.Context()
	id, err := db.AddPerson(ctx, records.Person{Name: "ines", Added: noon, Grants: []records.Grant{{Role: "administrator", Kind: everything}}})
	require.NoError(t, err)
	other, err := db.AddPerson(ctx, records.Person{Name: "tomas", Added: noon})
	require.NoError(t, err)
	require.NoError(t, db.AddToken(ctx, records.Token{Name: "nightly", Digest: "a", PersonID: id, Issued: noon, Expires: noon.Add(time.Hour)}, []rights.Right{rights.See}))
	assert.ErrorIs(t, db.AddToken(ctx, records.Token{Name: "Nightly", Digest: "b", PersonID: other, Issued: noon, Expires: noon}, nil), fault.Conflict)
	require.NoError(t, db.UsedToken(ctx, noon, "a", "192.0.2.7"))
	token, err := db.TokenOf(ctx, "a")
	require.NoError(t, err)
	assert.Equal(t, "ines", token.Person)
	assert.Equal(t, "192.0.2.7", token.UsedFrom)
	only, err := token.Rights()
	require.NoError(t, err)
	assert.Equal(t, []rights.Right{rights.See}, only)
	none, err := db.TokenOf(ctx, "z")
	require.NoError(t, err)
	assert.Nil(t, none)
	list, err := db.Tokens(ctx, other)
	require.NoError(t, err)
	assert.Empty(t, list)

	session := func(digest string, person int64, until time.Time) {
		s := records.Session{Digest: digest, Opened: noon, Expires: until, From: "192.0.2.7", Program: "a browser"}
		s.PersonID.Int64, s.PersonID.Valid = person, person != 0
		require.NoError(t, db.AddSession(ctx, s))
	}
	session("s1", id, noon.Add(time.Hour))
	session("s2", other, noon.Add(time.Hour))
	session("s3", 0, noon.Add(time.Hour))
	live, err := db.Sessions(ctx, noon, 0)
	require.NoError(t, err)
	assert.Len(t, live, 3)
	s, err := db.SessionOf(ctx, noon, "s3")
	require.NoError(t, err)
	assert.Empty(t, s.Person, "by the key of last resort")
	s, err = db.SessionOf(ctx, noon.Add(2*time.Hour), "s1")
	require.NoError(t, err)
	assert.Nil(t, s, "it is over")
	session("s4", other, noon.Add(time.Hour))
	require.NoError(t, db.SetPassword(ctx, other, "hash", "s4"))
	live, err = db.Sessions(ctx, noon, other)
	require.NoError(t, err)
	require.Len(t, live, 1, "but the one that set it")
	assert.Equal(t, "s4", live[0].Digest)
	require.NoError(t, db.ChangePerson(ctx, "tomas", func(p *records.Person) error { p.ShutOut = true; return nil }))
	require.NoError(t, db.SetPassword(ctx, other, "another", "s4"))
	tomas, err := db.Person(ctx, "tomas")
	require.NoError(t, err)
	assert.True(t, tomas.ShutOut, "a password lets nobody in again")
	require.NoError(t, db.EndSession(ctx, "s3"))
	live, err = db.Sessions(ctx, noon, 0)
	require.NoError(t, err)
	require.Len(t, live, 1, "of whoever is shut out there is none")
	require.NoError(t, db.RemoveToken(ctx, "NIGHTLY"))
	assert.ErrorIs(t, db.RemoveToken(ctx, "nightly"), fault.NotFound)
	require.NoError(t, db.RemovePerson(ctx, "tomas"))
}

func TestALinkIsGoodOnce(t *testing.T) {
	db, _ := open(t)
	ctx := t.Context()
	require.NoError(t, db.Invite(ctx, "old", 0, noon.Add(time.Hour)))
	require.NoError(t, db.Invite(ctx, "first", 0, noon.Add(time.Hour)))
	_, err := db.Invited(ctx, noon, "old")
	assert.ErrorIs(t, err, records.ErrInvitation, "the later one counts")
	_, err = db.Invited(ctx, noon.Add(time.Hour), "first")
	assert.ErrorIs(t, err, records.ErrInvitation, "it is over")
	whom, err := db.Invited(ctx, noon, "first")
	require.NoError(t, err)
	assert.Nil(t, whom)
	id, err := db.Accept(ctx, noon, "first", records.Person{Name: "ines", Password: "hash", Added: noon})
	require.NoError(t, err)
	_, err = db.Accept(ctx, noon, "first", records.Person{Name: "wren", Added: noon})
	assert.ErrorIs(t, err, records.ErrInvitation)
	p, err := db.PersonOf(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, "administrator", p.Grants[0].Role)

	require.NoError(t, db.Invite(ctx, "again", id, noon.Add(time.Hour)))
	whom, err = db.Invited(ctx, noon, "again")
	require.NoError(t, err)
	assert.Equal(t, "ines", whom.Name)
	_, err = db.Accept(ctx, noon, "again", records.Person{Name: "somebody else", Password: "another"})
	require.NoError(t, err)
	p, err = db.Person(ctx, "ines")
	require.NoError(t, err)
	assert.Equal(t, "another", p.Password)
}
