package service_test

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/api"
	"jugate/core/hwaddr"
	"jugate/sim"
)

func TestPayloadsComeOntoCopies(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	h := open(t, data, "127.0.0.1:0")
	ctx := t.Context()
	require.NoError(t, addGroup(h, "herbarium"))
	content := strings.Repeat("a package of the scanner\n", 100_000)
	for name, text := range map[string]string{"scanner_2.1_amd64.deb": content, "wallpaper.png": "leaf", "same.png": "leaf"} {
		_, err := h.client.AddPayload(ctx, name, "for the herbarium", strings.NewReader(text))
		require.NoError(t, err)
	}
	page, err := h.client.Payloads(ctx)
	require.NoError(t, err)
	require.Len(t, page.Items, 3)
	assert.EqualValues(t, len(content), page.Items[1].Size)
	kept, err := os.ReadDir(filepath.Join(data, "payloads"))
	require.NoError(t, err)
	assert.Len(t, kept, 2, "the same content is kept once")
	_, err = h.client.AddPayload(ctx, "Wallpaper.png", "", strings.NewReader("another leaf"))
	assert.ErrorContains(t, err, "there is another payload")
	for _, name := range []string{"../x", "a b", ""} {
		_, err = h.client.AddPayload(ctx, name, "", strings.NewReader("x"))
		assert.Error(t, err, name)
	}
	_, err = h.client.AddPayload(ctx, "empty", "", strings.NewReader(""))
	assert.ErrorContains(t, err, "empty is empty")

	assert.ErrorContains(t, h.set("herbarium", map[string]any{"payloads": []any{map[string]any{"name": "none"}}}), "there is no payload none; jugate payload add takes one")
	require.NoError(t, h.set("herbarium", map[string]any{"payloads": []any{map[string]any{"name": "scanner_2.1_amd64.deb"}, map[string]any{"name": "wallpaper.png", "path": "/usr/share/backgrounds/leaf.png"}}}))
	assert.ErrorContains(t, h.client.RemovePayload(ctx, "WALLPAPER.png"), "the answer payloads still has wallpaper.png")
	require.NoError(t, h.client.RemovePayload(ctx, "same.png"))

	h.start(1, linuxDisk(t), 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	disk := blank(t, 66<<20)
	h.start(2, disk, 0, "herb-01", "herbarium")
	preview, err := h.client.PreviewAnswers(ctx, "herb-01", "garden-desk")
	require.NoError(t, err)
	assert.Equal(t, "the payload wallpaper.png", preview.Changes[len(preview.Changes)-1].Because)
	d := h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herbarium"}})
	r := h.receipts(d.ID)["herb-01"]
	require.EqualValues(t, "delivered", r.Outcome, r.Reason)
	assert.Contains(t, r.Remark, "brought scanner_2.1_amd64.deb ("+page.Items[1].Digest[:12]+")")
	assert.Equal(t, content, onDisk(t, disk, "/var/lib/jugate/payloads/scanner_2.1_amd64.deb"))
	assert.Equal(t, "leaf", onDisk(t, disk, "/usr/share/backgrounds/leaf.png"))

	t.Log("# and onto a system that is there already, without its image")
	_, err = h.client.AddPayload(ctx, "later.txt", "", strings.NewReader("later"))
	require.NoError(t, err)
	_, err = h.client.InstallPayloads(ctx, api.InstallPayloads{To: []string{"herb-01"}, Payloads: []string{"none"}})
	assert.ErrorContains(t, err, "there is no payload none")
	_, err = h.client.InstallPayloads(ctx, api.InstallPayloads{To: []string{"desk-gold"}, Payloads: []string{"later.txt"}})
	assert.ErrorContains(t, err, "nobody knows which system is on it")
	errands, err := h.client.InstallPayloads(ctx, api.InstallPayloads{To: []string{"herb-01"}, Payloads: []string{"later.txt"}, Disk: "only"})
	require.NoError(t, err)
	require.Len(t, errands, 1)
	var done api.Errand
	h.eventually(func() bool {
		done, err = h.client.Errand(ctx, errands[0].ID)
		return err == nil && done.Ended != nil
	})
	require.EqualValues(t, "done", done.State, done.Error)
	assert.EqualValues(t, "payloads", done.Kind)
	assert.Contains(t, done.Result[0], "brought later.txt (")
	assert.Equal(t, "later", onDisk(t, disk, "/var/lib/jugate/payloads/later.txt"))

	t.Log("# what has come damaged is not on a receipt, and what is gone is named")
	require.NoError(t, os.WriteFile(filepath.Join(data, "payloads", page.Items[1].Digest), []byte("rot"), 0o640))
	d = h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herbarium"}})
	assert.Contains(t, h.receipts(d.ID)["herb-01"].Reason, "is shorter than it was")
	require.NoError(t, os.WriteFile(filepath.Join(data, "payloads", page.Items[1].Digest), []byte(strings.ToUpper(content)), 0o640))
	d = h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herbarium"}})
	assert.Contains(t, h.receipts(d.ID)["herb-01"].Reason, "scanner_2.1_amd64.deb came damaged")
}

func TestPayloadsComeInTheStream(t *testing.T) {
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	require.NoError(t, addGroup(h, "herbarium"))
	large := make([]byte, 5<<20+17)
	rand.NewChaCha8([32]byte{}).Read(large)
	for name, text := range map[string]string{"large.bin": string(large), "leaf.png": "leaf", "only-03.txt": "three", "same.bin": string(large)} {
		_, err := h.client.AddPayload(ctx, name, "", strings.NewReader(text))
		require.NoError(t, err)
	}
	h.start(1, linuxDisk(t), 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	whole, pieces := h.requests("/payloads/"), h.requests("/pieces/")
	names, disks := []string{"herb-01", "herb-02", "herb-03", "herb-04", "herb-05"}, map[string]string{}
	for n, name := range names {
		disks[name] = blank(t, 66<<20)
		w := &sim.Workstation{Addresses: []hwaddr.Address{address(2 + n)}, Disks: []string{disks[name]}, Interface: "lo", Memory: 8 << 30}
		switch name {
		case "herb-04":
			w.Loss = 1
		case "herb-05":
			w.Memory = 16 << 20 // room for the small ones alone
		}
		h.startMachine(w, name, "herbarium")
	}
	all := []any{map[string]any{"name": "large.bin"}, map[string]any{"name": "leaf.png"}, map[string]any{"name": "same.bin", "path": "/opt/same"}}
	require.NoError(t, h.set("herbarium", map[string]any{"payloads": all}))
	require.NoError(t, h.set("herb-03", map[string]any{"payloads": append(all, map[string]any{"name": "only-03.txt"})}))
	for _, sealed := range []bool{false, true} {
		whole.Store(0)
		pieces.Store(0)
		d := h.deliver(api.NewDelivery{Image: "garden-desk", To: names, Rate: 100_000_000, Sealed: sealed})
		for name, r := range h.receipts(d.ID) {
			require.EqualValues(t, "delivered", r.Outcome, "%s: %s", name, r.Reason)
			assert.Contains(t, r.Remark, "brought large.bin (")
			assert.Equal(t, string(large), onDisk(t, disks[name], "/var/lib/jugate/payloads/large.bin"), name)
			assert.Equal(t, string(large), onDisk(t, disks[name], "/opt/same"), name)
			assert.Equal(t, "leaf", onDisk(t, disks[name], "/var/lib/jugate/payloads/leaf.png"), name)
			if name < "herb-04" {
				assert.Zero(t, r.Unicast, name)
				assert.Greater(t, r.Multicast, int64(len(large)), name)
			}
		}
		assert.Equal(t, "three", onDisk(t, disks["herb-03"], "/var/lib/jugate/payloads/only-03.txt"))
		assert.EqualValues(t, 7+2*6, pieces.Load(), "herb-04 fetched 6 pieces of the large one, and the small one; herb-05 the large one for two places")
		assert.Zero(t, whole.Load(), "nothing comes beside the delivery, which may be sealed")
	}
}
