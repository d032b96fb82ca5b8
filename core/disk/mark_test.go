package disk

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/slabstore"
)

func TestTheMarkIsTextForPeople(t *testing.T) {
	m := Mark{Label: "garden-desk@3\nplan none" + strings.Repeat("x", 1000), Plan: slabstore.Sum([]byte("plan"))}
	b := m.Encode()
	require.Len(t, b, markLen)
	assert.Contains(t, string(b), "The image on this disk is not complete.")
	got, err := ReadMark(bytes.NewReader(b))
	require.NoError(t, err)
	assert.Equal(t, m.Plan, got.Plan, "whatever the label says")
	assert.True(t, strings.HasPrefix(got.Label, "garden-desk@3plan none"))
	beside := m.Beside()
	assert.Less(t, len(beside), bootCodeLen, "the partition table stays behind it")
	sector := append(beside, make([]byte, markLen-len(beside))...)
	again, err := ReadMark(bytes.NewReader(sector))
	require.NoError(t, err)
	assert.Equal(t, got, again)
	got, err = ReadMark(bytes.NewReader(make([]byte, markLen)))
	require.NoError(t, err)
	assert.Nil(t, got)
	_, err = ReadMark(bytes.NewReader(b[:100]))
	assert.Error(t, err)
	cut := bytes.Clone(b)
	clear(cut[len(markMagic):])
	got, err = ReadMark(bytes.NewReader(cut))
	require.NoError(t, err)
	assert.Equal(t, slabstore.Digest{}, got.Plan, "a mark without a plan fits no restore")
}
