package actor_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"jugate/core/actor"
)

func TestAnActorIsNamed(t *testing.T) {
	for _, tc := range []struct {
		a            actor.Actor
		name, within string
	}{
		{actor.Administrator, "administrator", "the administrator"},
		{actor.Service, "the service", "the service"},
		{actor.Actor{Kind: actor.Person, Name: "Ines Fairholm"}, "Ines Fairholm", "Ines Fairholm"},
		{actor.Actor{Kind: actor.Workstation, Name: "herb-01"}, "herb-01, at the workstation", "herb-01, at the workstation"},
		{actor.Actor{Kind: actor.Workstation}, "somebody, at the workstation", "somebody, at the workstation"},
	} {
		assert.Equal(t, tc.name, tc.a.String())
		assert.Equal(t, tc.within, tc.a.Words())
	}
}

func TestAContextCarriesItsActor(t *testing.T) {
	assert.Equal(t, actor.Service, actor.From(t.Context()))
	ctx := actor.With(t.Context(), actor.Administrator)
	assert.Equal(t, actor.Administrator, actor.From(ctx))
	assert.Equal(t, actor.Service, actor.From(actor.With(ctx, actor.Service)), "the innermost counts")
}
