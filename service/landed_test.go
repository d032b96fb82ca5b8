package service_test

import (
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/apiclient"
)

// landedFolders is after all of them were written.
var landedFolders = time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)

// Every version that landed has left a data folder (testdata/README.md). This one opens it, keeps a copy of the records from before,
// has all that was in it, and brings its image to one more machine.
func TestEveryVersionThatLandedGoesOn(t *testing.T) {
	t.Parallel()
	folders, err := filepath.Glob("testdata/folder-*-*.tar.zst")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(folders), 13)
	for _, path := range folders {
		name := filepath.Base(path)
		t.Run(strings.TrimSuffix(name, ".tar.zst"), func(t *testing.T) {
			t.Parallel()
			data := oldFolder(t, name)
			h := openIn(t, data, landedFolders)
			kept, err := filepath.Glob(filepath.Join(data, "jugate.db.form-*"))
			require.NoError(t, err)
			assert.Len(t, kept, 1, "the records as they were")

			roster, err := h.client.Workstations(t.Context(), apiclient.List{})
			require.NoError(t, err)
			assert.GreaterOrEqual(t, roster.Total, 4)
			receipts, err := h.client.Receipts(t.Context(), apiclient.List{})
			require.NoError(t, err)
			assert.Equal(t, 3, receipts.Total)
			log, err := h.client.CheckLog(t.Context())
			require.NoError(t, err)
			assert.True(t, log.Sound, log.Detail)
			sound, err := h.client.VerifyVersion(t.Context(), "garden-desk@1")
			require.NoError(t, err)
			assert.True(t, sound.Sound, "%+v", sound.Faults)
			v, err := h.client.Version(t.Context(), "garden-desk@1")
			require.NoError(t, err)
			assert.Equal(t, "the first one", v.Note)

			h.start(9, blank(t, v.DiskBytes), 0, "herb-09")
			d := h.deliver(api.NewDelivery{Image: "garden-desk@1", To: []string{"herb-09"}})
			assert.EqualValues(t, "delivered", h.receipts(d.ID)["herb-09"].Outcome, h.receipts(d.ID)["herb-09"].Reason)
			h.stop()
			h = openIn(t, data, landedFolders)
			log, err = h.client.CheckLog(t.Context())
			require.NoError(t, err)
			assert.True(t, log.Sound, log.Detail)
			assert.Equal(t, 4, log.Receipts)
		})
	}
}
