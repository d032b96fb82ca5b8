package rights_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"jugate/core/fault"
	"jugate/core/rights"
)

func role(name string) rights.Role {
	r, _ := rights.FindBuiltIn(name)
	return r
}

func TestWhatIsGrantedIsHeldAndNoMore(t *testing.T) {
	h := rights.Of([]rights.Grant{
		{Role: role("Reader"), On: rights.Scope{Kind: rights.Everything}},
		{Role: role("engineer"), On: rights.Scope{Kind: rights.OfGroup, Name: "Herbarium"}},
		{Role: rights.Role{Name: "keeper", Rights: []rights.Right{rights.KeepImages, "something else"}}, On: rights.Scope{Kind: rights.OfImage, Name: "garden-desk"}},
	})
	assert.True(t, h.May(rights.See))
	assert.False(t, h.May(rights.Deliver))
	assert.True(t, h.On(rights.Deliver, []string{"kiosks", "herbarium"}))
	assert.False(t, h.On(rights.Deliver, []string{"seed-bank"}))
	assert.False(t, h.On(rights.Deliver, nil), "a newcomer is in no group")
	assert.True(t, h.On(rights.See, nil))
	assert.True(t, h.OnImage(rights.KeepImages, "Garden-Desk"))
	assert.False(t, h.OnImage(rights.KeepImages, "seed-desk"))
	assert.False(t, h.OnImage(rights.Deliver, "garden-desk"))
	assert.True(t, h.Somewhere(rights.Wipe))
	assert.False(t, h.Somewhere(rights.Administer))
	assert.Nil(t, h.Groups(rights.See), "all of them")
	assert.Equal(t, []string{"herbarium"}, h.Groups(rights.Wipe))
	assert.Equal(t, []string{}, h.Images(rights.Administer))

	t.Log("# a token has no more than it names")
	cut := h.Only([]rights.Right{rights.Deliver})
	assert.False(t, cut.Somewhere(rights.See))
	assert.True(t, cut.On(rights.Deliver, []string{"herbarium"}))
	assert.False(t, cut.Somewhere(rights.KeepImages))

	var nobody rights.Holder
	var service *rights.Holder
	for _, r := range rights.All {
		assert.False(t, nobody.Somewhere(r))
		assert.True(t, service.May(r) && service.OnImage(r, "x") && service.On(r, nil), "what nobody has asked for, the service does")
	}
	assert.False(t, rights.Known("something else"))
}

func TestChecksNameWhatIsLacking(t *testing.T) {
	h := rights.Of([]rights.Grant{{Role: role("helper"), On: rights.Scope{Kind: rights.OfGroup, Name: "herbarium"}}})
	ctx := rights.Needing(rights.With(t.Context(), h), rights.Deliver)
	assert.NoError(t, rights.Check(ctx, "herb-01", []string{"herbarium"}))
	err := rights.Check(ctx, "seed-01", []string{"seed-bank"})
	assert.ErrorIs(t, err, fault.Forbidden)
	assert.EqualError(t, err, "this takes the right to deliver for seed-01, which you do not have")
	assert.NoError(t, rights.CheckGroup(ctx, "Herbarium"))
	assert.ErrorContains(t, rights.CheckGroup(ctx, "kiosks"), "for the group kiosks")
	assert.ErrorContains(t, rights.CheckImage(ctx, rights.See, "garden-desk"), "the right to see for the image garden-desk")
	assert.ErrorContains(t, rights.CheckEverything(ctx, rights.Administer), "for everything")
	assert.NoError(t, rights.Check(t.Context(), "seed-01", nil), "the service itself")
	assert.Equal(t, "image:x", rights.Scope{Kind: rights.OfImage, Name: "x"}.String())
}
