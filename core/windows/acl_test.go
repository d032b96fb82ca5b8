package windows

import (
	"encoding/hex"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var users = []byte{1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 0x21, 2, 0, 0}

// parent is a folder's descriptor like those of a system: some entries are for the folder, some for
// what is in it, one for whoever makes something there.
func parent() []byte {
	return descriptor(hasList, []entry{
		{0, 0, allRights, administrators}, {0, 0x0b, 1 << 28, administrators}, {0, 0x03, 0x001200a9, users}, {0, 0x0b, 1 << 28, creatorOwner},
		{0, 0x02, 0x00000004, localSystem}, {0, 0x09, 0x00120089, localSystem}, {1, 0x07, 0x00010000, users}, {0, 0x10, 0x00000001, users},
	})
}

func TestANewFileHasWhatItsFolderHandsDown(t *testing.T) {
	read := func(folder bool) []entry {
		b, err := Inherited(parent(), folder)
		require.NoError(t, err)
		all, err := entries(b)
		require.NoError(t, err)
		return all
	}
	assert.Equal(t, []entry{
		{0, fromAbove, allRights, administrators}, {0, fromAbove, 0x001200a9, users}, {0, fromAbove, allRights, administrators},
		{0, fromAbove, 0x00120089, localSystem}, {1, fromAbove, 0x00010000, users},
	}, read(false))
	assert.Equal(t, []entry{
		{0, fromAbove, allRights, administrators}, {0, 0x1b, 1 << 28, administrators},
		{0, 0x13, 0x001200a9, users},
		{0, fromAbove, allRights, administrators}, {0, 0x1b, 1 << 28, creatorOwner},
		{0, 0x12, 0x00000004, localSystem},
		{0, 0x19, 0x00120089, localSystem},
		{1, fromAbove, 0x00010000, users},
	}, read(true))
}

func TestWhereNothingComesFromAboveAFileIsPrivate(t *testing.T) {
	for name, above := range map[string][]byte{"nothing for what is in it": descriptor(hasList, []entry{{0, 0, allRights, users}}), "no list": descriptor(0, nil)} {
		b, err := Inherited(above, false)
		require.NoError(t, err, name)
		all, err := entries(b)
		require.NoError(t, err)
		assert.Equal(t, private(), all, name)
	}
	all, err := entries(Private())
	require.NoError(t, err)
	assert.Equal(t, private(), all)
}

// The descriptor of a root folder as mkfs.ntfs makes it, without the zeros behind it.
const rootOfVolume = "010004801410000020100000000000001400000002000010080000000000180" +
	"0ff011f000102000000000005200000002002000000"

func TestDescriptorsThatAreNone(t *testing.T) {
	short, err := hex.DecodeString(rootOfVolume)
	require.NoError(t, err)
	for name, b := range map[string][]byte{"nothing": nil, "short": parent()[:40], "another version": append([]byte{2}, parent()[1:]...), "cut": short} {
		_, err := Inherited(b, true)
		assert.ErrorIs(t, err, ErrDescriptor, name)
	}
}

func FuzzInherited(f *testing.F) {
	f.Add(parent(), true)
	f.Add(Private(), false)
	f.Fuzz(func(t *testing.T, b []byte, folder bool) {
		own, err := Inherited(b, folder)
		if err != nil {
			return
		}
		_, err = entries(own)
		require.NoError(t, err, "what it makes can be read")
	})
}
