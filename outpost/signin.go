package outpost

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/alexedwards/argon2id"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/fault"
	"jugate/core/quota"
	"jugate/oneport"
)

// Whoever has signed in at a workstation here by name and password may do so for a time while the service does not answer. That
// lets them choose, and nothing else: what they choose is ordered when the service answers, which asks them again.

// keptSignIn: who has signed in, by name in small letters.
const keptSignIn = "sign-in"

// signedIn is what is kept of somebody.
type signedIn struct {
	Hash   string // of the password, by Argon2id (RFC 9106)
	Answer api.SignedIn
}

// hashing is for computers as small as outposts are: the second choice of RFC 9106, section 4, with less memory.
var hashing = &argon2id.Params{Memory: 19 << 10, Iterations: 2, Parallelism: 1, SaltLength: 16, KeyLength: 32}

const (
	// wrongAtMost is how often passwords may be wrong from one workstation, or of one name, within wrongWithin, while nobody else
	// counts that.
	wrongAtMost, wrongWithin = 5, 5 * time.Minute
	// signInAtMost bounds a request to sign in, in bytes.
	signInAtMost = 4 << 10
)

// tries counts wrong passwords while the service does not answer.
type tries struct {
	from quota.Quota[netip.Addr]
	of   quota.Quota[string]
}

// signIn passes a sign-in on, and keeps whom the service has let in; while it does not answer, those are let in here.
func (r *relay) signIn(w http.ResponseWriter, req *http.Request) {
	said, ok := bodyOf(w, req, signInAtMost)
	if !ok {
		return
	}
	var in api.Typed
	if err := json.Unmarshal(said, &in); err != nil {
		fail(w, fault.Invalid.Mark(err))
		return
	}
	if !r.o.line.down() {
		answer := &answer{ResponseWriter: w, header: http.Header{}}
		if r.proxy.ServeHTTP(answer, req); !answer.away {
			if err := r.keepSignIn(req.Context(), in, answer); err != nil {
				r.o.config.Log.Warn("who has signed in cannot be kept", "error", err)
			}
			answer.pass()
			return
		}
	}
	if req.Context().Err() != nil {
		return
	}
	out, err := r.signInHere(req.Context(), oneport.Remote(req), in)
	switch {
	case errors.Is(err, apiclient.ErrAway):
		problem(w, http.StatusServiceUnavailable, r.awayWords())
	case fault.KindOf(err) == fault.TooMany:
		problem(w, http.StatusTooManyRequests, err.Error())
	case err != nil:
		problem(w, http.StatusForbidden, err.Error())
	default:
		answerJSON(w, out)
	}
}

// keepSignIn keeps somebody whom the service has let in by a password alone, and forgets whom it has refused.
func (r *relay) keepSignIn(ctx context.Context, in api.Typed, answer *answer) error {
	key := strings.ToLower(in.Name)
	if in.Name == "" || in.Factor != "" {
		return nil
	}
	hours, err := r.signInHours(ctx)
	if err != nil {
		return err
	}
	switch {
	case answer.status == http.StatusForbidden || hours == 0:
		return r.o.records.Forget(ctx, keptSignIn, key)
	case answer.status != http.StatusOK:
		return nil
	}
	kept := signedIn{}
	if err := json.Unmarshal(answer.body.Bytes(), &kept.Answer); err != nil {
		return err
	}
	kept.Answer.Entries = []api.BootEntryAt{} // they start now, or not
	if kept.Hash, err = argon2id.CreateHash(in.Password, hashing); err != nil {
		return err
	}
	return r.o.records.Keep(ctx, r.o.config.Now(), keptSignIn, key, kept)
}

// signInHours is for how many hours somebody is let in here.
func (r *relay) signInHours(ctx context.Context) (int, error) {
	work, err := r.o.hold.work(ctx)
	return work.Line.SignIn, err
}

// signInHere lets somebody in who was let in before. Errors are apiclient.ErrAway for whom nothing is known of here, and
// fault.Forbidden and fault.TooMany.
func (r *relay) signInHere(ctx context.Context, from netip.Addr, in api.Typed) (out api.SignedIn, err error) {
	now, key := r.o.config.Now(), strings.ToLower(in.Name)
	if in.Name == "" || in.Factor != "" {
		return out, apiclient.ErrAway
	}
	hours, err := r.signInHours(ctx)
	if err != nil {
		return out, err
	}
	var kept signedIn
	at, err := r.o.records.Kept(ctx, keptSignIn, key, &kept)
	if fault.KindOf(err) == fault.NotFound || err == nil && now.Sub(at) > time.Duration(hours)*time.Hour {
		return out, apiclient.ErrAway
	}
	if err != nil {
		return out, err
	}
	if !r.tries.from.Left(from, now) || !r.tries.of.Left(key, now) {
		return out, fault.TooMany.Errorf("too many wrong passwords; try again in some minutes")
	}
	if right, err := argon2id.ComparePasswordAndHash(in.Password, kept.Hash); err != nil || !right {
		r.tries.from.Take(from, now, wrongAtMost, wrongWithin)
		r.tries.of.Take(key, now, wrongAtMost, wrongWithin)
		r.o.config.Log.Warn("a wrong password was refused, while the service does not answer", "name", in.Name, "from", from)
		return out, fault.Forbidden.Errorf("the password is not the one of the last time; the service, which does not answer, may know another")
	}
	r.o.config.Log.Info("signed in while the service does not answer", "name", in.Name, "from", from)
	kept.Answer.Later = true
	return kept.Answer, nil
}

// forgetSignIns forgets everybody, as this is no outpost any more.
func (r *relay) forgetSignIns(ctx context.Context) {
	keys, err := r.o.records.Keys(ctx, keptSignIn, "")
	for _, key := range keys {
		err = errors.Join(err, r.o.records.Forget(ctx, keptSignIn, key))
	}
	if err != nil {
		r.o.config.Log.Warn("who has signed in cannot be forgotten", "error", err)
	}
}
