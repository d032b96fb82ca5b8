package agent

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatTheKernelShowsOfAMachine(t *testing.T) {
	sys := t.TempDir()
	for name, text := range map[string]string{
		"class/dmi/id/sys_vendor": "Alder Works\n", "class/dmi/id/product_name": "A310\n", "class/dmi/id/product_serial": "To be filled by O.E.M.\n",
		"devices/system/memory/block_size_bytes": "8000000\n", "devices/system/memory/memory0/online": "1\n", "devices/system/memory/memory1/online": "1\n", "devices/system/memory/memory2/online": "0\n",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(sys, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(sys, name), []byte(text), 0o644))
	}
	assert.Equal(t, "Alder Works", product(sys, "sys_vendor"))
	assert.Equal(t, "A310", product(sys, "product_name"))
	assert.Empty(t, product(sys, "product_serial"), "what makers write who have none")
	assert.Empty(t, product(sys, "product_uuid"), "what is not there")
	assert.EqualValues(t, 256<<20, memory(sys), "two blocks of 128 MiB are in use")
	assert.Positive(t, memory(t.TempDir()), "where blocks are not told, what the kernel can use")
}
