package access

import (
	"context"
	"crypto/subtle"
	"net/netip"
	"strings"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"

	"jugate/api"
	"jugate/core/actor"
	"jugate/core/fault"
	"jugate/records"
)

// A second factor is a secret that a person's telephone keeps, and shows a code of that changes every 30
// seconds (RFC 6238).

const (
	// factorStep is how long a code is shown.
	factorStep = 30 * time.Second
	// factorSkew is how many steps a telephone's clock may be off (RFC 6238, 6).
	factorSkew = 1
)

var factorOptions = totp.ValidateOpts{Period: uint(factorStep / time.Second), Digits: otp.DigitsSix, Algorithm: otp.AlgorithmSHA1}

// ErrCode says that the password is right, and that the code of the second factor is needed as well.
var ErrCode = fault.Stranger.Errorf("enter the code that your second factor shows, too")

var errWrongCode = fault.Stranger.Errorf("this code is not right, or was used already; it changes every 30 seconds, by the clock of the service and of what shows it")

// factorAbout is what secrets of second factors are sealed for.
func factorAbout(person string) string { return "second factor of " + strings.ToLower(person) }

// stepOf finds the step that a code is of, around now; 0 if none.
func stepOf(now time.Time, secret, code string) int64 {
	code = strings.ReplaceAll(strings.TrimSpace(code), " ", "")
	var found int64
	for skew := -factorSkew; skew <= factorSkew; skew++ { // all of them, whichever fits
		at := now.Add(time.Duration(skew) * factorStep)
		want, err := totp.GenerateCodeCustom(secret, at, factorOptions)
		if err == nil && subtle.ConstantTimeCompare([]byte(want), []byte(code)) == 1 {
			found = at.Unix() / int64(factorStep/time.Second)
		}
	}
	return found
}

// secondFactor checks the code of a person who has told the right password. Errors are ErrCode, fault.Stranger and
// fault.TooMany.
func (a *Access) secondFactor(ctx context.Context, p *records.Person, from netip.Addr, code string) error {
	if p.Factor == "" {
		return nil
	}
	if code == "" {
		return ErrCode
	}
	return a.useCode(ctx, p, p.Factor, from, code)
}

// useCode uses a code of a sealed secret, once.
func (a *Access) useCode(ctx context.Context, p *records.Person, sealed string, from netip.Addr, code string) error {
	now, account := a.Now(), strings.ToLower(p.Name)
	if !a.tries.may(now, 0, from) || !a.tries.byAccount.Left(account, now) {
		return errTooManyTries
	}
	secret, err := a.Unseal(factorAbout(p.Name), sealed)
	if err != nil {
		return err
	}
	if step := stepOf(now, secret, code); step != 0 {
		used, err := a.Records.UseFactorStep(ctx, p.ID, step)
		if used || err != nil {
			return err
		}
	}
	a.tries.wrong(now, 0, from)
	a.tries.byAccount.Take(account, now, wrongAtMost, wrongWithin)
	a.Log.Warn("a wrong code of a second factor was refused", "name", p.Name, "from", from)
	return errWrongCode
}

// ownAccount is the caller's own.
func (a *Access) ownAccount(ctx context.Context, c Caller) (*records.Person, error) {
	if c.Person == 0 {
		return nil, fault.Conflict.Errorf("the key of last resort has no account")
	}
	return a.Records.PersonOf(ctx, c.Person)
}

// OfferFactor makes a secret for the caller's second factor, which counts once a code of it was told.
func (a *Access) OfferFactor(ctx context.Context, c Caller) (api.OfferedFactor, error) {
	p, err := a.ownAccount(ctx, c)
	if err != nil {
		return api.OfferedFactor{}, err
	}
	if p.Factor != "" {
		return api.OfferedFactor{}, fault.Conflict.Errorf("you have a second factor already; remove it first")
	}
	key, err := totp.Generate(totp.GenerateOpts{Issuer: "Jugate", AccountName: p.Name, Period: factorOptions.Period, Digits: factorOptions.Digits, Algorithm: factorOptions.Algorithm})
	if err != nil {
		return api.OfferedFactor{}, err
	}
	sealed, err := a.Seal(factorAbout(p.Name), key.Secret())
	if err != nil {
		return api.OfferedFactor{}, err
	}
	return api.OfferedFactor{Secret: key.Secret(), URL: key.URL()}, a.setFactor(ctx, p, "", sealed)
}

// ConfirmFactor has the secret count that was offered, by a code of it.
func (a *Access) ConfirmFactor(ctx context.Context, c Caller, from netip.Addr, code string) error {
	p, err := a.ownAccount(ctx, c)
	if err != nil {
		return err
	}
	if p.FactorOffered == "" {
		return fault.Conflict.Errorf("set up a second factor first")
	}
	if err := a.useCode(ctx, p, p.FactorOffered, from, code); err != nil {
		return notStranger(err)
	}
	a.Log.Info("second factor set", "person", p.Name)
	return a.setFactor(ctx, p, p.FactorOffered, "")
}

// RemoveFactor ends the caller's second factor, by a code of it.
func (a *Access) RemoveFactor(ctx context.Context, c Caller, from netip.Addr, code string) error {
	p, err := a.ownAccount(ctx, c)
	if err != nil {
		return err
	}
	if p.Factor == "" {
		return fault.Conflict.Errorf("you have no second factor to remove")
	}
	if err := a.useCode(ctx, p, p.Factor, from, code); err != nil {
		return notStranger(err)
	}
	a.Log.Info("second factor removed", "person", p.Name)
	return a.setFactor(ctx, p, "", "")
}

// ResetFactor ends the second factor of somebody who has lost it.
func (a *Access) ResetFactor(ctx context.Context, name string) error {
	p, err := a.Records.Person(ctx, name)
	if err != nil {
		return err
	}
	a.Log.Info("second factor reset", "person", p.Name, "by", actor.From(ctx))
	return a.setFactor(ctx, p, "", "")
}

func (a *Access) setFactor(ctx context.Context, p *records.Person, factor, offered string) error {
	defer a.callers.forget()
	return a.Records.SetFactor(ctx, p.ID, factor, offered)
}

// notStranger is an error for somebody who is signed in, and stays so.
func notStranger(err error) error {
	if fault.KindOf(err) == fault.Stranger {
		return fault.Forbidden.Errorf("%s", err.Error())
	}
	return err
}
