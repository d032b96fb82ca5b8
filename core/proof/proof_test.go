package proof_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/mod/sumdb/tlog"

	"jugate/core/proof"
)

// tree is one in memory, with its key.
type tree struct {
	t      *testing.T
	key    *proof.Key
	kept   []proof.Hash
	leaves []string
}

func (r *tree) ReadHashes(at []int64) ([]proof.Hash, error) {
	all := make([]proof.Hash, len(at))
	for i, n := range at {
		all[i] = r.kept[n]
	}
	return all, nil
}

func newTree(t *testing.T, leaves ...string) *tree {
	t.Helper()
	private, err := proof.NewKey("jugate-test")
	require.NoError(t, err)
	key, err := proof.ParseKey(private + "\n")
	require.NoError(t, err)
	r := &tree{t: t, key: key}
	r.add(leaves...)
	return r
}

func (r *tree) add(leaves ...string) {
	for _, l := range leaves {
		n := int64(len(r.leaves))
		require.EqualValues(r.t, len(r.kept), proof.First(n))
		grown, err := proof.Grown(r, n, proof.Leaf([]byte(l)))
		require.NoError(r.t, err)
		r.kept, r.leaves = append(r.kept, grown...), append(r.leaves, l)
	}
}

func (r *tree) head(size int64) (proof.Head, string) {
	root, err := proof.Root(r, size)
	require.NoError(r.t, err)
	h := proof.Head{Origin: r.key.Name(), Size: size, Root: root}
	signed, err := r.key.Sign(h)
	require.NoError(r.t, err)
	return h, signed
}

func (r *tree) size() int64 { return int64(len(r.leaves)) }

func numbered(from, to int) (all []string) {
	for n := from; n < to; n++ {
		all = append(all, fmt.Sprintf("receipt %d", n))
	}
	return all
}

func TestEveryLeafIsProvenAndNothingElse(t *testing.T) {
	r := newTree(t, numbered(0, 37)...)
	other := newTree(t, numbered(0, 37)...)
	for size := int64(1); size <= r.size(); size++ {
		head, signed := r.head(size)
		for n := range size {
			text, err := proof.Of(r, head, n, []byte(r.leaves[n]), signed)
			require.NoError(t, err)
			leaf, of, err := proof.Verify(text, r.key.Verifier())
			require.NoError(t, err)
			require.Equal(t, r.leaves[n], string(leaf))
			require.Equal(t, head, of)
			_, _, err = proof.Verify(text, other.key.Verifier())
			require.ErrorIs(t, err, proof.ErrSignature, "of another service")
			forged, err := proof.Of(r, head, n, []byte("receipt of nothing"), signed)
			require.NoError(t, err)
			_, _, err = proof.Verify(forged, r.key.Verifier())
			require.ErrorIs(t, err, proof.ErrProof)
		}
		_, err := proof.Of(r, head, size, nil, signed)
		require.ErrorContains(t, err, "behind the head")
	}
	for _, odd := range []string{"", "c2sp.org/tlog-proof@v1\n", "c2sp.org/tlog-proof@v1\nindex 0\n\n"} {
		_, _, err := proof.Verify(odd, r.key.Verifier())
		assert.Error(t, err)
	}
}

func TestAnEarlierHeadShowsWhatWasChanged(t *testing.T) {
	r := newTree(t, numbered(0, 20)...)
	then, signed := r.head(20)
	r.add(numbered(20, 33)...)
	now, _ := r.head(33)
	path, err := proof.Grows(r, 20, 33)
	require.NoError(t, err)
	assert.NoError(t, proof.HasGrown(path, then, now))
	assert.ErrorIs(t, proof.HasGrown(path[1:], then, now), proof.ErrProof)
	assert.ErrorIs(t, proof.HasGrown(nil, now, then), proof.ErrProof, "it has shrunk")
	assert.NoError(t, proof.HasGrown(nil, then, then))

	t.Log("# edited, the newest deleted, all written anew: with the key at hand, and not with the head of then")
	for name, leaves := range map[string][]string{
		"edited": append(append(numbered(0, 7), "receipt of nothing"), numbered(8, 33)...), "the newest deleted": append(numbered(0, 19), numbered(20, 34)...), "all anew": numbered(100, 133),
	} {
		forged := newTree(t, leaves...)
		forged.key = r.key
		head, _ := forged.head(33)
		for old := int64(1); old < 33; old++ {
			path, err := proof.Grows(forged, old, 33)
			require.NoError(t, err)
			assert.Error(t, proof.HasGrown(path, then, head), name)
		}
	}
	_, err = proof.Open(strings.Replace(signed, "\n20\n", "\n21\n", 1), r.key.Verifier())
	assert.ErrorIs(t, err, proof.ErrSignature)
}

func witness(t *testing.T) *proof.Cosigner {
	t.Helper()
	private, err := proof.NewKey("alpine-house")
	require.NoError(t, err)
	w, err := proof.ParseCosigner(private)
	require.NoError(t, err)
	return w
}

func TestAWitnessTakesWhatHasGrown(t *testing.T) {
	r, w := newTree(t, numbered(0, 9)...), witness(t)
	ask := func(last proof.Head, old, size int64) (proof.Head, error) {
		_, signed := r.head(size)
		path, err := proof.Grows(r, old, size)
		require.NoError(t, err)
		q, err := proof.ParseRequest(proof.Request{Old: old, Path: path, Head: signed}.Marshal())
		require.NoError(t, err)
		return proof.Take(last, q, r.key.Verifier())
	}
	first, err := ask(proof.Head{}, 0, 5)
	require.NoError(t, err)
	assert.EqualValues(t, 5, first.Size)
	second, err := ask(first, 5, 9)
	require.NoError(t, err)
	_, err = ask(second, 5, 9)
	assert.ErrorIs(t, err, proof.ErrBehind)
	_, err = ask(second, 9, 9)
	assert.NoError(t, err, "again")

	t.Log("# its signature is another's than the service's, and tells when")
	_, signed := r.head(9)
	line, err := w.Cosign(second)
	require.NoError(t, err)
	at, err := proof.Cosigned(signed+line, w.Verifier())
	require.NoError(t, err)
	assert.False(t, at.IsZero())
	_, err = proof.Cosigned(signed, w.Verifier())
	assert.ErrorIs(t, err, proof.ErrSignature)
	_, err = proof.Open(signed+line, r.key.Verifier())
	assert.NoError(t, err, "the service's own is still there")

	t.Log("# another tree is not taken, whoever signs it")
	forged := newTree(t, append(numbered(0, 8), "receipt of nothing", "receipt 9")...)
	_, foreign := forged.head(10)
	path, err := proof.Grows(forged, 9, 10)
	require.NoError(t, err)
	_, err = proof.Take(second, proof.Request{Old: 9, Path: path, Head: foreign}, r.key.Verifier())
	assert.ErrorIs(t, err, proof.ErrSignature)
	forged.key = r.key
	_, foreign = forged.head(10)
	_, err = proof.Take(second, proof.Request{Old: 9, Path: path, Head: foreign}, r.key.Verifier())
	assert.ErrorIs(t, err, proof.ErrProof)
	_, foreign = forged.head(9)
	_, err = proof.Take(second, proof.Request{Old: 9, Head: foreign}, r.key.Verifier())
	assert.ErrorIs(t, err, proof.ErrBehind)
}

func TestARestoreIsStatedAndAForgeryIsNot(t *testing.T) {
	r := newTree(t, numbered(0, 20)...)
	lost, signed := r.head(20)
	said := func(operation, old, why string) string {
		text, err := json.Marshal(map[string]any{"operation": operation, "who": "ines", "details": map[string]string{"old_head": old, "why": why}})
		require.NoError(t, err)
		return string(text)
	}
	state := func(leaf string) string {
		back := newTree(t, append(numbered(0, 12), leaf)...)
		back.key = r.key
		head, s := back.head(13)
		text, err := proof.Of(back, head, 12, []byte(leaf), s)
		require.NoError(t, err)
		return text
	}
	now, by, err := proof.TakeRestore(lost, state(said(proof.RestoreOperation, signed, "the disk broke")), r.key.Verifier())
	require.NoError(t, err)
	assert.EqualValues(t, 13, now.Size)
	assert.Equal(t, "ines", by.Who)
	assert.Equal(t, "the disk broke", by.Details.Why)

	t.Log("# what states nothing, or something about another head, is not taken")
	earlier, before := r.head(15)
	for name, statement := range map[string]string{
		"no statement": state("receipt 12"), "another operation": state(said("deliver", signed, "the disk broke")), "no reason": state(said(proof.RestoreOperation, signed, " ")),
		"another head": state(said(proof.RestoreOperation, before, "the disk broke")), "no head": state(said(proof.RestoreOperation, "", "the disk broke")),
	} {
		_, _, err := proof.TakeRestore(lost, statement, r.key.Verifier())
		assert.Error(t, err, name)
	}
	_, _, err = proof.TakeRestore(earlier, state(said(proof.RestoreOperation, signed, "again")), r.key.Verifier())
	assert.ErrorIs(t, err, proof.ErrBehind)
}

func FuzzRequest(f *testing.F) {
	f.Add([]byte("old 3\n" + strings.Repeat("A", 43) + "=\n\njugate\n4\nAAAA\n\n— jugate AAAA\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		r, err := proof.ParseRequest(b)
		if err != nil {
			return
		}
		again, err := proof.ParseRequest(r.Marshal())
		require.NoError(t, err)
		require.Equal(t, r, again)
		_, err = proof.Take(proof.Head{}, r, "jugate+00000000+AAAA")
		require.Error(t, err)
	})
}

func FuzzProof(f *testing.F) {
	private, err := proof.NewKey("jugate-test")
	require.NoError(f, err)
	key, err := proof.ParseKey(private)
	require.NoError(f, err)
	leaf := proof.Leaf([]byte("a"))
	signed, err := key.Sign(proof.Head{Origin: "jugate-test", Size: 1, Root: leaf})
	require.NoError(f, err)
	text, err := proof.Of(tlog.HashReaderFunc(func([]int64) ([]proof.Hash, error) { return []proof.Hash{leaf}, nil }), proof.Head{Origin: "jugate-test", Size: 1, Root: leaf}, 0, []byte("a"), signed)
	require.NoError(f, err)
	f.Add(text)
	f.Fuzz(func(t *testing.T, text string) {
		got, _, err := proof.Verify(text, key.Verifier())
		if err == nil {
			require.Equal(t, "a", string(got), "nothing else was ever signed")
		}
	})
}
