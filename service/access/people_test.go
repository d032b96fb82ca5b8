package access

import (
	"log/slog"
	"net/netip"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/rights"
	"jugate/records"
)

// desk is an Access with records and a clock of its own.
func desk(t *testing.T) (a *Access, wait func(time.Duration)) {
	t.Helper()
	now := time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
	dir := t.TempDir()
	db, err := records.Open(t.Context(), now, filepath.Join(dir, "jugate.db"))
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	a, err = Open(dir, slog.New(slog.DiscardHandler), func() time.Time { return now })
	require.NoError(t, err)
	a.Records = db
	return a, func(d time.Duration) { now = now.Add(d) }
}

var here = netip.MustParseAddr("192.0.2.7")

const gate = "the garden gate is green"

func TestWhatIsOverIsOver(t *testing.T) {
	a, wait := desk(t)
	ctx := t.Context()
	link, err := a.FirstLink(ctx)
	require.NoError(t, err)
	wait(linkLife)
	_, err = a.Accept(ctx, here, link.Secret, api.Acceptance{Name: "ines", Password: gate}, "")
	assert.ErrorIs(t, err, records.ErrInvitation, "the link")
	link, err = a.FirstLink(ctx)
	require.NoError(t, err)
	session, err := a.Accept(ctx, here, link.Secret, api.Acceptance{Name: "ines", Password: gate}, strings.Repeat("a long name of a browser", 100))
	require.NoError(t, err)
	c, err := a.BySession(ctx, session)
	require.NoError(t, err)
	token, err := a.AddToken(ctx, c, api.NewToken{Name: "nightly", Days: 1})
	require.NoError(t, err)

	wait(SessionLife - time.Second)
	_, err = a.BySession(ctx, session)
	assert.NoError(t, err)
	wait(time.Second)
	_, err = a.BySession(ctx, session)
	assert.ErrorIs(t, err, fault.Stranger, "the session, although it is remembered")
	_, err = a.ByToken(ctx, here, token.Secret, "/groups")
	assert.NoError(t, err)
	wait(12 * time.Hour)
	_, err = a.ByToken(ctx, here, token.Secret, "/groups")
	assert.ErrorContains(t, err, "the token nightly is over since")
}

func TestTheFirstLinkIsGoodAsLongAsThereIsNobody(t *testing.T) {
	a, _ := desk(t)
	ctx := t.Context()
	link, err := a.FirstLink(ctx)
	require.NoError(t, err)
	_, err = a.AddPerson(ctx, api.NewPerson{Name: "ines", Grants: []api.Grant{{Role: "administrator"}}})
	require.NoError(t, err)
	_, err = a.Accept(ctx, here, link.Secret, api.Acceptance{Name: "wren", Password: gate}, "")
	assert.ErrorIs(t, err, records.ErrInvitation)
	all, err := a.People(ctx)
	require.NoError(t, err)
	assert.Len(t, all, 1)
}

func TestALostRoleGivesNothing(t *testing.T) {
	a, _ := desk(t)
	ctx := t.Context()
	for name, grant := range map[string]api.Grant{"ines": {Role: "administrator"}, "wren": {Role: "keeper", On: "everything"}} {
		if name == "wren" {
			_, err := a.PutRole(ctx, api.NewRole{Name: "keeper", Rights: []rights.Right{rights.KeepImages}})
			require.NoError(t, err)
		}
		_, err := a.AddPerson(ctx, api.NewPerson{Name: name, Grants: []api.Grant{grant}})
		require.NoError(t, err)
	}
	token, err := a.AddToken(ctx, lastResort(), api.NewToken{Name: "wrens", Person: "wren"})
	require.NoError(t, err)
	c, err := a.ByToken(ctx, here, token.Secret, "")
	require.NoError(t, err)
	assert.True(t, c.Holder.May(rights.KeepImages))
	_, err = a.PutRole(ctx, api.NewRole{Name: "Keeper", Rights: []rights.Right{rights.See}})
	require.NoError(t, err)
	c, err = a.ByToken(ctx, here, token.Secret, "")
	require.NoError(t, err)
	assert.False(t, c.Holder.May(rights.KeepImages), "at once")
	assert.Equal(t, "wren, by the token wrens", c.String())
	assert.False(t, c.Limited)
	limited, err := a.AddToken(ctx, lastResort(), api.NewToken{Name: "less", Person: "wren", Rights: []rights.Right{rights.See}})
	require.NoError(t, err)
	c, err = a.ByToken(ctx, here, limited.Secret, "")
	require.NoError(t, err)
	assert.True(t, c.Limited)
	for name, in := range map[string]api.NewRole{"built in": {Name: "Reader", Rights: []rights.Right{rights.See}}, "no right": {Name: "x", Rights: []rights.Right{"fly"}}, "a bad name": {Name: "a b", Rights: []rights.Right{rights.See}}} {
		_, err = a.PutRole(ctx, in)
		assert.Error(t, err, name)
	}
	assert.ErrorIs(t, a.RemoveRole(ctx, "reader"), fault.Conflict)
	for name, on := range map[string]string{"no kind": "herbarium", "no name": "group:", "another kind": "model:A310"} {
		_, err = a.AddPerson(ctx, api.NewPerson{Name: "rowan", Grants: []api.Grant{{Role: "reader", On: on}}})
		assert.ErrorContains(t, err, "is nothing that a role can be for", name)
	}
	_, err = a.AddToken(ctx, c, api.NewToken{Name: "x", Person: "ines"})
	assert.ErrorContains(t, err, "you may not make tokens for ines")
	_, err = a.AddToken(ctx, c, api.NewToken{Name: "x", Rights: []rights.Right{"fly"}})
	assert.Error(t, err)
	assert.ErrorIs(t, a.RemoveToken(ctx, Caller{Person: 99, Holder: rights.Of(nil)}, "wrens"), fault.NotFound, "another's")
}

func TestGuessingIsSlowForOneAccountAndNobodyElse(t *testing.T) {
	a, wait := desk(t)
	ctx := t.Context()
	for _, name := range []string{"ines", "tomas"} {
		_, err := a.AddPerson(ctx, api.NewPerson{Name: name, Grants: []api.Grant{{Role: "administrator"}}})
		require.NoError(t, err)
		link, err := a.Invite(ctx, name)
		require.NoError(t, err)
		_, err = a.Accept(ctx, here, link.Secret, api.Acceptance{Password: gate}, "")
		require.NoError(t, err)
	}
	var err error
	for i := range wrongAtMost + 1 { // from many addresses
		_, _, err = a.SignInPerson(ctx, netip.AddrFrom4([4]byte{203, 0, 113, byte(i)}), "Ines", "guess", "")
	}
	assert.ErrorIs(t, err, fault.TooMany)
	_, _, err = a.SignInPerson(ctx, here, "ines", gate, "")
	assert.ErrorIs(t, err, fault.TooMany, "not even with the right one")
	_, _, err = a.SignInPerson(ctx, here, "tomas", gate, "")
	assert.NoError(t, err)
	wait(wrongWithin)
	_, _, err = a.SignInPerson(ctx, here, "ines", gate, "")
	assert.NoError(t, err)
	_, err = a.AddPerson(ctx, api.NewPerson{Name: "wren"})
	require.NoError(t, err)
	_, _, err = a.SignInPerson(ctx, here, "wren", "", "")
	assert.ErrorIs(t, err, fault.Stranger, "who has set no password")
}
