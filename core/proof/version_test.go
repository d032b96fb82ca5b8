package proof_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/proof"
)

func TestWhatAKeySaysOfAVersion(t *testing.T) {
	key := func(name string) *proof.Key {
		private, err := proof.NewKey(name)
		require.NoError(t, err)
		k, err := proof.ParseKey(private)
		require.NoError(t, err)
		return k
	}
	own, other := key("jugate"), key("jugate")
	v := proof.Version{Name: "garden-desk@3", Digest: strings.Repeat("ab", 32)}
	signed, err := own.SignVersion(v)
	require.NoError(t, err)
	got, err := proof.OpenVersion(signed, own.Verifier())
	require.NoError(t, err)
	assert.Equal(t, v, got)
	_, err = proof.OpenVersion(signed, other.Verifier())
	assert.ErrorIs(t, err, proof.ErrSignature)
	_, err = proof.OpenVersion(strings.Replace(signed, "@3", "@4", 1), own.Verifier())
	assert.ErrorIs(t, err, proof.ErrSignature)
	_, err = own.SignVersion(proof.Version{Name: "a\nb"})
	assert.Error(t, err)

	// One is never taken for the other.
	head, err := own.Sign(proof.Head{Origin: own.Name(), Size: 3})
	require.NoError(t, err)
	_, err = proof.OpenVersion(head, own.Verifier())
	assert.ErrorContains(t, err, "nothing of a version")
	_, err = proof.Open(signed, own.Verifier())
	assert.Error(t, err)
}
