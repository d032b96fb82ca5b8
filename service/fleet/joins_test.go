package fleet

import (
	"context"
	"fmt"
	"io/fs"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/answers"
	"jugate/core/fault"
	"jugate/core/join"
	"jugate/records"
	"jugate/records/recordstest"
)

// office is a domain in a test's hands. While it is away nobody joins.
type office struct {
	away   bool
	asked  int
	joined []string
}

func (o *office) Problems(_ context.Context, domain string, names []string) (map[string]string, error) {
	o.asked++
	if o.away {
		return nil, fault.Conflict.Mark(fmt.Errorf("%w: %s", join.ErrAway, domain))
	}
	problems := map[string]string{}
	for _, name := range names {
		if name == "herb-02" {
			problems[name] = "somebody else is called so"
		}
	}
	return problems, nil
}

func (o *office) Join(_ context.Context, domain, name string) (*join.Member, error) {
	if o.away {
		return nil, fault.Conflict.Mark(fmt.Errorf("%w: %s", join.ErrAway, domain))
	}
	o.joined = append(o.joined, name)
	return &join.Member{Name: name, Password: "secret", Domain: join.Domain{DNS: domain}}, nil
}

// open secrets are not sealed, and every image can be answered.
type open struct{}

func (open) Seal(_, text string) (string, error)   { return text, nil }
func (open) Unseal(_, text string) (string, error) { return text, nil }
func (open) System(context.Context, string) (fs.FS, string, string, error) {
	return nil, "", "", fault.Conflict.Errorf("no system")
}
func (open) Answerable(context.Context, *records.Version) answers.Target {
	return answers.Target{Partition: 1}
}

func TestWhoJoinsADomain(t *testing.T) {
	ctx := t.Context()
	db := recordstest.Open(t, time.Now())
	domain := &office{}
	f := &Fleet{AcceptCards: no, Tickets: no, Records: db, Boot: quiet{}, Stock: quiet{}, Errands: quiet{}, Secrets: open{}, Systems: open{}, Domains: domain, Log: slog.New(slog.DiscardHandler), Publish: func(any) {}, Now: time.Now}
	in, err := f.Import(ctx, strings.NewReader("name;serial\nherb-01;S1\nherb-02;S2\nherb-03;S3\n"), ImportOptions{})
	require.NoError(t, err)
	require.True(t, in.Entered)
	set := func(of string, values map[string]any) error {
		_, err := f.SetAnswers(ctx, api.NewAnswers{Of: of, Values: values})
		return err
	}
	assert.ErrorContains(t, set("service", map[string]any{"domain": "fennholt.example"}), "enter it with jugate domain add")
	require.NoError(t, db.PutDomain(ctx, records.Domain{Name: "fennholt.example", Added: time.Now()}))
	require.NoError(t, set("service", map[string]any{"domain": "fennholt.example"}))
	require.NoError(t, set("herb-03", map[string]any{"computer_name": "alpine-03"}))
	assert.ErrorContains(t, db.RemoveDomain(ctx, "Fennholt.example"), "the answer domain is still Fennholt.example somewhere")

	all, _, err := db.Workstations(ctx, records.WorkstationFilter{}, records.Page{})
	require.NoError(t, err)
	require.Len(t, all, 3)
	v := &records.Version{Image: "garden-desk"}
	how, err := f.HowAnswered(ctx, all, v, nil)
	require.NoError(t, err)
	assert.Equal(t, 1, domain.asked, "a domain is asked once")
	byName := map[string]records.Workstation{}
	for _, w := range all {
		byName[w.Name] = w
	}
	assert.Empty(t, how[byName["herb-01"].ID].Problem)
	assert.Equal(t, "somebody else is called so", how[byName["herb-02"].ID].Problem)

	to, err := f.ToAnswer(ctx, byName["herb-03"], v, nil, false)
	require.NoError(t, err)
	assert.Equal(t, []string{"alpine-03"}, domain.joined)
	assert.Equal(t, "alpine-03.fennholt.example", to.Joined.Host)
	assert.NotEmpty(t, to.Joined.Keytab)
	assert.Empty(t, to.Joined.Blob, "which is for Windows")

	t.Log("# while the domain is away")
	domain.away = true
	how, err = f.HowAnswered(ctx, all, v, nil)
	require.NoError(t, err)
	assert.Contains(t, how[byName["herb-01"].ID].Away, "no domain controller answers")
	_, err = f.ToAnswer(ctx, byName["herb-01"], v, nil, false)
	assert.ErrorIs(t, err, join.ErrAway)
	to, err = f.ToAnswer(ctx, byName["herb-01"], v, nil, true)
	require.NoError(t, err)
	assert.Nil(t, to.Joined)
	r, err := f.Resolved(ctx, "herb-01", "")
	require.NoError(t, err)
	assert.Len(t, r.Problems, 1)
}
