package agent

import (
	"bytes"
	"cmp"
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"encoding/pem"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"jugate/api"
	"jugate/core/answers"
	"jugate/core/volume"
)

// Changer is a SystemVolume whose files can be changed in every way that answers need.
type Changer interface {
	// Change makes one change, on the medium when it returns.
	Change(c answers.Change) error
}

// protector is a SystemVolume that can leave files to administrators alone.
type protector interface{ Protect(name string) error }

// complete asks whoever stands at the screen what the answers leave open.
func (a *Agent) complete(ctx context.Context, to *api.ToAnswer) error {
	if to.Problem != "" {
		return errors.New(to.Problem)
	}
	for _, q := range answers.Questions(to.Values) {
		v, err := a.ask(ctx, q)
		if err != nil {
			return fmt.Errorf("%s: %w", q.Key, err)
		}
		to.Values[q.Key] = string(v)
	}
	return nil
}

// confirm has whoever stands at the screen agree to something.
func (a *Agent) confirm(ctx context.Context, text string) error {
	if a.options.Ask == nil {
		return errors.New("somebody has to confirm it at the screen, and this machine has none")
	}
	a.show("somebody is asked at the screen: %s", text)
	for wrong := ""; ; wrong = "Type yes, or no." {
		said, err := a.options.Ask(ctx, answers.Question{Key: "yes or no", Ask: text}, wrong)
		switch {
		case err != nil:
			return err
		case strings.EqualFold(said, "yes"):
			return nil
		case strings.EqualFold(said, "no"):
			return fmt.Errorf("somebody at the screen has said no to: %s", text)
		}
	}
}

// ask asks until it hears something that makes sense.
func (a *Agent) ask(ctx context.Context, q answers.Question) (answers.Value, error) {
	if a.options.Ask == nil {
		if q.Default == "" {
			return "", errors.New("it is to be asked at the screen, and this machine has none")
		}
		return answers.Parse(q.Key, q.Default)
	}
	a.show("somebody is asked at the screen: %s", q.Ask)
	for wrong := ""; ; {
		text, err := a.options.Ask(ctx, q, wrong)
		if err != nil {
			return "", err
		}
		if text = cmp.Or(text, q.Default); text == "" {
			wrong = "Nothing was typed."
			continue
		}
		v, err := answers.Parse(q.Key, text)
		if _, is := v.Question(q.Key); is {
			err = errors.New("this is a question")
		}
		if err == nil {
			return v, nil
		}
		wrong = err.Error()
	}
}

// answer has the system on a disk be what the answers say. did says in words what was done.
func (a *Agent) answer(ctx context.Context, d Disk, among func(number int) bool, to *api.ToAnswer, carried carried) (did []string, err error) {
	s, err := answers.FromTold(to.Values)
	if err != nil {
		return nil, fmt.Errorf("this build of the boot environment does not know all of the answers; make another: %w", err)
	}
	return onSystem(ctx, d, among, errors.New("no system on this disk can take answers"), answers.ErrNoSystem, func(system SystemVolume, kind volume.Kind) ([]string, error) {
		return a.answerInto(ctx, system, kind, s, to, carried)
	})
}

func (a *Agent) answerInto(ctx context.Context, system SystemVolume, kind volume.Kind, s *answers.Settings, to *api.ToAnswer, carried carried) (did []string, err error) {
	fresh, err := a.fresh()
	if err != nil {
		return nil, err
	}
	fresh.Joined = to.Joined
	if fresh.Arrival, err = a.arrival(to); err != nil {
		return nil, err
	}
	plan, err := answers.For(system, s, fresh, to.Arch)
	if err != nil {
		return nil, err
	}
	if err := carryOut(ctx, system, kind, plan); err != nil {
		return nil, err
	}
	brought, err := a.bring(ctx, system, plan.Payloads, to.Payloads, carried)
	if err != nil {
		return nil, err
	}
	commander, runs := system.(Commander)
	for _, argv := range plan.Runs {
		if !runs {
			plan.Remarks = append(plan.Remarks, strings.Join(argv, " ")+" could not be run in the system")
			continue
		}
		a.show("%s in the system", argv[0])
		if err := runIn(ctx, commander, argv...); err != nil {
			return nil, err
		}
	}
	as := s.ComputerName
	if to.Joined != nil {
		as += ", in " + to.Joined.Domain
	}
	return slices.Concat([]string{fmt.Sprintf("answered as %s (%d changes)", as, len(plan.Changes))}, brought, plan.Remarks), nil
}

// carryOut makes the changes of a plan. On NTFS, owners and permissions are not those of a
// Change: they come from the folder, and what is secret is for administrators alone.
func carryOut(ctx context.Context, system SystemVolume, kind volume.Kind, plan *answers.Plan) error {
	changer, can := system.(Changer)
	if !can && kind != volume.NTFS {
		return errors.New("the files of this system cannot be changed from here")
	}
	for _, c := range plan.Changes {
		if err := ctx.Err(); err != nil {
			return err
		}
		var err error
		switch {
		case kind != volume.NTFS:
			err = changer.Change(c)
		case c.Do == answers.Write:
			err = system.WriteFile(c.Path, bytes.NewReader(c.Content))
			if p, can := system.(protector); err == nil && c.Secret && can {
				err = p.Protect(c.Path)
			}
		case c.Do != answers.Folder: // which WriteFile makes
			err = errors.New("this cannot be done on NTFS")
		}
		if err != nil {
			return fmt.Errorf("%s /%s (%s): %w", c.Do, c.Path, c.Why, err)
		}
	}
	return nil
}

// arrival is what the system reports its first start with: a Linux with this very program, which
// knows how, and a Windows with what it brings.
func (a *Agent) arrival(to *api.ToAnswer) (*answers.Arrival, error) {
	if to.Token == "" {
		return nil, nil
	}
	arrival := &answers.Arrival{Service: a.service.Server(), Certificate: string(a.options.Certificate), Token: to.Token}
	if to.Arch != "" {
		return arrival, nil
	}
	var err error
	if arrival.Program, err = a.machine.Program(); err != nil {
		return nil, fmt.Errorf("the program that reports the first start: %w", err)
	}
	return arrival, nil
}

// fresh makes what this copy needs of its own.
func (a *Agent) fresh() (answers.Fresh, error) {
	f := answers.Fresh{HostKeys: hostKey, Seed: make([]byte, 512), Today: int(time.Now().Unix() / (24 * 60 * 60))}
	if _, err := rand.Read(f.Seed); err != nil {
		return f, err
	}
	inv, err := a.machine.Inventory()
	if err != nil {
		return f, err
	}
	for _, c := range inv.Cards {
		if !c.Adapter {
			f.FirstCard = c.Address
			break
		}
	}
	return f, nil
}

// rsaBits is how long RSA host keys are.
const rsaBits = 3072

// hostKey makes an SSH host key, as files have it.
func hostKey(kind string) (private, public []byte, err error) {
	var key crypto.Signer
	switch kind {
	case "ed25519":
		_, key, err = ed25519.GenerateKey(rand.Reader)
	case "ecdsa":
		key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	case "rsa":
		key, err = rsa.GenerateKey(rand.Reader, rsaBits)
	default:
		err = fmt.Errorf("SSH host keys of kind %s are not known", kind)
	}
	if err != nil {
		return nil, nil, err
	}
	block, err := ssh.MarshalPrivateKey(key, "")
	if err != nil {
		return nil, nil, err
	}
	p, err := ssh.NewPublicKey(key.Public())
	if err != nil {
		return nil, nil, err
	}
	return pem.EncodeToMemory(block), ssh.MarshalAuthorizedKey(p), nil
}
