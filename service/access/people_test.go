package access

import (
	"log/slog"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/fault"
	"jugate/core/rights"
	"jugate/records"
	"jugate/records/recordstest"
)

// desk is an Access with records and a clock of its own.
func desk(t *testing.T) (a *Access, wait func(time.Duration)) {
	t.Helper()
	now := time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
	a, err := Open(t.TempDir(), Names{}, slog.New(slog.DiscardHandler), func() time.Time { return now })
	require.NoError(t, err)
	a.Records = recordstest.Open(t, now)
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
	c, err := a.BySession(ctx, here, session)
	require.NoError(t, err)
	token, err := a.AddToken(ctx, c, api.NewToken{Name: "nightly", Days: 1})
	require.NoError(t, err)

	wait(SessionLife - time.Second)
	_, err = a.BySession(ctx, here, session)
	assert.NoError(t, err)
	wait(time.Second)
	_, err = a.BySession(ctx, here, session)
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
		_, _, err = a.SignInPerson(ctx, netip.AddrFrom4([4]byte{203, 0, 113, byte(i)}), api.SignIn{Name: "Ines", Password: "guess"}, "")
	}
	assert.ErrorIs(t, err, fault.TooMany)
	_, _, err = a.SignInPerson(ctx, here, api.SignIn{Name: "ines", Password: gate}, "")
	assert.ErrorIs(t, err, fault.TooMany, "not even with the right one")
	_, _, err = a.SignInPerson(ctx, here, api.SignIn{Name: "tomas", Password: gate}, "")
	assert.NoError(t, err)
	wait(wrongWithin)
	_, _, err = a.SignInPerson(ctx, here, api.SignIn{Name: "ines", Password: gate}, "")
	assert.NoError(t, err)
	_, err = a.AddPerson(ctx, api.NewPerson{Name: "wren"})
	require.NoError(t, err)
	_, _, err = a.SignInPerson(ctx, here, api.SignIn{Name: "wren", Password: ""}, "")
	assert.ErrorIs(t, err, fault.Stranger, "who has set no password")
}

// A code counts once, within a step of the clock, and only beside the password.
func TestASecondFactorIsNeededOnceItIsConfirmed(t *testing.T) {
	a, wait := desk(t)
	ctx := t.Context()
	link, err := a.FirstLink(ctx)
	require.NoError(t, err)
	_, err = a.Accept(ctx, here, link.Secret, api.Acceptance{Name: "ines", Password: gate}, "")
	require.NoError(t, err)
	in := api.SignIn{Name: "Ines", Password: gate}
	_, c, err := a.SignInPerson(ctx, here, in, "")
	require.NoError(t, err)
	assert.ErrorContains(t, a.ConfirmFactor(ctx, c, here, "123456"), "set up a second factor first")
	offered, err := a.OfferFactor(ctx, c)
	require.NoError(t, err)
	assert.Contains(t, offered.URL, "otpauth://totp/Jugate:ines?")
	code := func(skew time.Duration) string {
		text, err := totp.GenerateCode(offered.Secret, a.Now().Add(skew))
		require.NoError(t, err)
		return text
	}
	assert.ErrorIs(t, a.ConfirmFactor(ctx, c, here, "000000"), fault.Forbidden)
	_, _, err = a.SignInPerson(ctx, here, in, "")
	require.NoError(t, err, "it does not count before")
	require.NoError(t, a.ConfirmFactor(ctx, c, here, code(0)))
	_, err = a.OfferFactor(ctx, c)
	assert.ErrorIs(t, err, fault.Conflict)

	t.Log("# beside the password, by a clock that is half a minute off, and once")
	_, _, err = a.SignInPerson(ctx, here, in, "")
	assert.ErrorIs(t, err, ErrCode)
	_, _, err = a.SignInPerson(ctx, here, api.SignIn{Name: "ines", Password: "the garden gate is blue", Code: code(0)}, "")
	assert.ErrorIs(t, err, errWrongPassword)
	in.Code = code(0)
	_, _, err = a.SignInPerson(ctx, here, in, "")
	assert.ErrorIs(t, err, errWrongCode, "it was used to confirm")
	wait(2 * time.Minute)
	for off, want := range map[time.Duration]error{-2 * factorStep: errWrongCode, 2 * factorStep: errWrongCode} {
		in.Code = code(off)
		_, _, err = a.SignInPerson(ctx, here, in, "")
		assert.ErrorIs(t, err, want, off)
	}
	for _, off := range []time.Duration{-factorStep, 0, factorStep} {
		in.Code = code(off)
		_, _, err = a.SignInPerson(ctx, here, in, "")
		assert.NoError(t, err, off)
		_, _, err = a.SignInPerson(ctx, here, in, "")
		assert.ErrorIs(t, err, errWrongCode, "again, %s", off)
	}

	t.Log("# who guesses has to wait")
	wait(time.Hour)
	for range wrongAtMost {
		in.Code = "000000"
		_, _, err = a.SignInPerson(ctx, here, in, "")
		assert.Error(t, err)
	}
	in.Code = code(0)
	_, _, err = a.SignInPerson(ctx, here, in, "")
	assert.ErrorIs(t, err, errTooManyTries)
	wait(time.Hour)

	t.Log("# the secret is not in the records as it is, and its end takes a code, or somebody who administers")
	p, err := a.Records.Person(ctx, "ines")
	require.NoError(t, err)
	assert.NotContains(t, p.Factor, offered.Secret)
	assert.ErrorIs(t, a.RemoveFactor(ctx, c, here, "000000"), fault.Forbidden)
	require.NoError(t, a.RemoveFactor(ctx, c, here, code(0)))
	_, _, err = a.SignInPerson(ctx, here, api.SignIn{Name: "ines", Password: gate}, "")
	assert.NoError(t, err)
	offered, err = a.OfferFactor(ctx, c)
	require.NoError(t, err)
	wait(time.Minute)
	require.NoError(t, a.ConfirmFactor(ctx, c, here, code(0)))
	_, err = a.ChangePerson(ctx, "ines", api.PersonChange{ResetFactor: true})
	require.NoError(t, err)
	_, _, err = a.SignInPerson(ctx, here, api.SignIn{Name: "ines", Password: gate}, "")
	assert.NoError(t, err)
}

func TestASessionThatIsUsedAtTwoPlacesEnds(t *testing.T) {
	a, wait := desk(t)
	ctx := t.Context()
	link, err := a.FirstLink(ctx)
	require.NoError(t, err)
	session, err := a.Accept(ctx, here, link.Secret, api.Acceptance{Name: "ines", Password: gate}, "a browser")
	require.NoError(t, err)
	use := func(from string) error {
		_, err := a.BySession(ctx, netip.MustParseAddr(from), session)
		wait(time.Second)
		return err
	}
	t.Log("# a browser uses both protocols in turn, changes its address within its network, and is carried into another")
	for range 3 {
		for _, from := range []string{"192.0.2.7", "2001:db8::1", "::ffff:192.0.2.7", "2001:db8::2"} {
			assert.NoError(t, use(from))
		}
	}
	assert.NoError(t, use("198.51.100.7"))
	wait(takesTurns)
	assert.NoError(t, use("192.0.2.7"), "and home again, later")

	t.Log("# but is not here, there and here within a minute")
	assert.NoError(t, use("203.0.113.5"))
	err = use("192.0.2.7")
	assert.ErrorIs(t, err, fault.Stranger)
	assert.ErrorContains(t, err, "was used from 192.0.2.7 and 203.0.113.5 at once")
	assert.ErrorContains(t, use("192.0.2.7"), "sign in first", "it has ended, for both")
	assert.ErrorContains(t, use("203.0.113.5"), "sign in first")
	lines, _, err := a.Records.Lines(ctx, records.LineFilter{}, records.Page{Limit: 10})
	require.NoError(t, err)
	require.NotEmpty(t, lines)
	assert.Equal(t, []string{"ines", "end-torn-session", "192.0.2.7 and 203.0.113.5"}, []string{lines[0].Who, lines[0].Operation, lines[0].From})
}
