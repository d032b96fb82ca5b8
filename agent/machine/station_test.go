package machine

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheVolumeOfMediaIsFoundByItsName(t *testing.T) {
	sys := t.TempDir()
	for device, says := range map[string]string{
		"sda": "DEVNAME=sda\nDEVTYPE=disk\n", "sda1": "DEVNAME=sda1\nPARTN=1\nPARTNAME=jugate\n", "sda2": "DEVNAME=sda2\nPARTN=2\nPARTNAME=jugate-data\n",
		"sdb2": "DEVNAME=sdb2\nPARTN=2\nPARTNAME=jugate-data-of-somebody\n", "vda1": "DEVNAME=vda1\nPARTN=1\n",
	} {
		dir := filepath.Join(sys, "class/block", device)
		require.NoError(t, os.MkdirAll(dir, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "uevent"), []byte(says), 0o644))
	}
	assert.Equal(t, []string{"sda2"}, dataVolumes(sys))
	assert.Empty(t, dataVolumes(t.TempDir()))
}
