package service_test

import (
	"bytes"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"
	_ "modernc.org/sqlite"

	"jugate/api"
	"jugate/apiclient"
	"jugate/core/proof"
)

// within changes the records of a service that has stopped, as somebody does who has the file in hands.
func within(t *testing.T, data, change string) {
	t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(data, "jugate.db"))
	require.NoError(t, err)
	_, err = db.Exec(change)
	require.NoError(t, err)
	require.NoError(t, db.Close())
}

// copied puts the records, as they are on the disk, elsewhere.
func copied(t *testing.T, from, to string) {
	t.Helper()
	for _, name := range []string{"jugate.db", "jugate.db-wal", "jugate.db-shm"} {
		os.Remove(filepath.Join(to, name))
		text, err := os.ReadFile(filepath.Join(from, name))
		if err == nil {
			require.NoError(t, os.WriteFile(filepath.Join(to, name), text, 0o600))
		}
	}
}

// groups adds some, each of which is a line of the logbook.
func (h *house) groups(names ...string) {
	for _, name := range names {
		_, err := h.client.AddGroup(h.t.Context(), api.NewGroup{Name: name})
		require.NoError(h.t, err)
	}
}

func (h *house) check() api.LogCheck {
	h.t.Helper()
	c, err := h.client.CheckLog(h.t.Context())
	require.NoError(h.t, err)
	return c
}

func TestAReceiptIsProvenToWhoHasTheKey(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	h.start(1, gold(t).Path, 0, "desk-gold")
	require.EqualValues(t, "done", h.capture("desk-gold", "garden-desk").State)
	h.start(2, blank(t, gold(t).Size), 0, "herb-01")
	d := h.deliver(api.NewDelivery{Image: "garden-desk", To: []string{"herb-01"}})
	r := h.receipts(d.ID)["herb-01"]
	keys, err := h.client.LogKeys(ctx)
	require.NoError(t, err)
	p, err := h.client.ProveReceipt(ctx, r.ID)
	require.NoError(t, err)
	leaf, head, err := proof.Verify(p.Proof, keys.Log)
	require.NoError(t, err)
	var said map[string]any
	require.NoError(t, json.Unmarshal(leaf, &said))
	assert.Equal(t, "herb-01", said["workstation"])
	assert.Equal(t, r.Digest, said["digest"])
	assert.Equal(t, "delivered", said["outcome"])
	lines, err := h.client.Lines(ctx, apiclient.List{})
	require.NoError(t, err)
	p, err = h.client.ProveLine(ctx, lines.Items[0].ID)
	require.NoError(t, err)
	_, _, err = proof.Verify(p.Proof, keys.Log)
	require.NoError(t, err)
	_, err = h.client.ProveReceipt(ctx, 99)
	assert.Equal(t, http.StatusNotFound, status(err))
	assert.LessOrEqual(t, head.Size, h.check().Leaves)
	assert.True(t, h.check().Sound)

	t.Log("# an export proves itself")
	body, err := h.client.ExportLog(ctx, "", "")
	require.NoError(t, err)
	defer body.Close()
	var exported bytes.Buffer
	_, err = exported.ReadFrom(body)
	require.NoError(t, err)
	assert.Len(t, strings.Split(strings.TrimSpace(exported.String()), "\n"), 2)
}

// Who has the database and the keys of a service can write all of it anew; a witness has seen what was there.
func TestAWitnessSeesWhatTheKeysAllow(t *testing.T) {
	t.Parallel()
	data, backup := t.TempDir(), t.TempDir()
	h, w := open(t, data, "127.0.0.1:0"), open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	ours, err := h.client.LogKeys(ctx)
	require.NoError(t, err)
	theirs, err := w.client.LogKeys(ctx)
	require.NoError(t, err)
	enter := api.NewWitness{Name: "alpine-house", URL: w.url + "/witness/v1", Key: theirs.Witness, Authority: string(w.service.Authority())}

	t.Log("# nobody is entered who does not countersign")
	h.groups("herbarium")
	_, err = h.client.AddWitness(ctx, enter)
	assert.ErrorContains(t, err, "nothing of this service is countersigned here")
	assert.ErrorContains(t, w.client.Watch(ctx, api.NewWatched{Name: "garden", Key: "nonsense"}), "is not the key of a service")
	require.NoError(t, w.client.Watch(ctx, api.NewWatched{Name: "garden", Key: ours.Log}))
	assert.Error(t, w.client.Watch(ctx, api.NewWatched{Name: "again", Key: ours.Log}))
	assert.ErrorContains(t, h.client.Watch(ctx, api.NewWatched{Name: "itself", Key: ours.Log}), "nobody is a witness of themselves")
	wrong := enter
	wrong.Authority = ""
	_, err = h.client.AddWitness(ctx, wrong)
	assert.ErrorContains(t, err, "it does not answer")
	in, err := h.client.AddWitness(ctx, enter)
	require.NoError(t, err)
	assert.Positive(t, in.Leaves)
	head, err := h.client.Head(ctx)
	require.NoError(t, err)

	t.Log("# every hour, or when somebody asks")
	h.groups("seed-bank", "kiosks")
	asked, err := h.client.AskWitnesses(ctx)
	require.NoError(t, err)
	require.Empty(t, asked.Items[0].Problem)
	assert.Greater(t, asked.Items[0].Leaves, in.Leaves)
	assert.True(t, h.check().Sound)
	grown, err := h.client.Growth(ctx, head.Leaves)
	require.NoError(t, err)
	assert.NotEmpty(t, grown.Path)

	t.Log("# the newest are deleted, with the key at hand and all heads that were signed")
	h.stop()
	copied(t, data, backup)
	within(t, data, `DROP TRIGGER leaves_stay; DELETE FROM logbook WHERE id > 2; DELETE FROM leaves WHERE n > 1; DELETE FROM hashes WHERE i > 2; DELETE FROM heads`)
	beside := filepath.Join(data, "newest.head")
	kept, err := os.ReadFile(beside)
	require.NoError(t, err)
	h = open(t, data, "127.0.0.1:0")
	c := h.check()
	assert.False(t, c.Sound)
	assert.Contains(t, c.Detail, "the newest are gone", "the head beside the records says so")
	h.stop()
	require.NoError(t, os.Remove(beside))
	h = open(t, data, "127.0.0.1:0")
	c = h.check()
	assert.False(t, c.Sound)
	assert.Contains(t, c.Detail, "the witness alpine-house: it has seen another tree than ours")

	t.Log("# all of it written anew, to the same length")
	for n := range 6 {
		h.groups([]string{"a", "b", "c", "d", "e", "f"}[n])
	}
	c = h.check()
	assert.False(t, c.Sound)
	assert.Contains(t, c.Detail, "the witness alpine-house")

	t.Log("# a restore says that it is one, and the witness goes on when somebody there knows of it")
	h.stop()
	copied(t, backup, data)
	require.NoError(t, os.WriteFile(beside, kept, 0o640))
	h = open(t, data, "127.0.0.1:0")
	assert.True(t, h.check().Sound)
	_, err = h.client.Restored(ctx, "nothing was")
	assert.ErrorContains(t, err, "nothing is missing")
	h.stop()
	copied(t, data, backup)
	h = open(t, data, "127.0.0.1:0")
	h.groups("lost-1", "lost-2")
	_, err = h.client.AskWitnesses(ctx)
	require.NoError(t, err)
	h.groups("lost-3")
	h.stop() // which signs a head that no witness has seen
	copied(t, backup, data)
	h = open(t, data, "127.0.0.1:0")
	h.groups("fresh")
	c = h.check()
	assert.False(t, c.Sound)
	assert.Contains(t, c.Detail, "say so with jugate receipt restored")
	_, err = h.client.Head(ctx)
	assert.Equal(t, http.StatusConflict, status(err), "nothing is signed that does not follow")
	_, err = h.client.Restored(ctx, "the disk broke")
	require.NoError(t, err)
	asked, err = h.client.AskWitnesses(ctx)
	require.NoError(t, err)
	assert.Contains(t, asked.Items[0].Problem, "jugate witness confirm")
	watched, err := w.client.Watched(ctx)
	require.NoError(t, err)
	require.NotNil(t, watched.Items[0].Restored)
	assert.Equal(t, "the disk broke", watched.Items[0].Restored.Why)
	assert.Greater(t, watched.Items[0].Restored.LostLeaves, int64(0))
	assert.Error(t, w.client.ConfirmRestore(ctx, "nobody"))
	require.NoError(t, w.client.ConfirmRestore(ctx, "garden"))
	assert.ErrorContains(t, w.client.ConfirmRestore(ctx, "garden"), "has not said that anything was restored")
	asked, err = h.client.AskWitnesses(ctx)
	require.NoError(t, err)
	assert.Empty(t, asked.Items[0].Problem)
	assert.True(t, h.check().Sound)

	t.Log("# who is no service that is watched gets nothing, whatever is sent")
	for _, path := range []string{"add-checkpoint", "seen", "restored"} {
		for _, body := range []string{"", "old 0\n\nnobody\n1\nAAAA\n", strings.Repeat("x", 200<<10)} {
			resp, err := w.client.HTTP().Post(w.url+"/witness/v1/"+path, "text/plain", strings.NewReader(body))
			require.NoError(t, err)
			resp.Body.Close()
			assert.Contains(t, []int{400, 404, 413, 422}, resp.StatusCode, path)
		}
	}
	require.NoError(t, h.client.RemoveWitness(ctx, "alpine-house"))
	require.NoError(t, w.client.Unwatch(ctx, "garden"))
}

// tiles fetches tiles as a monitor does.
type tiles struct{ h *house }

func (tiles) Height() int { return 8 }

func (tiles) SaveTiles([]tlog.Tile, [][]byte) {}

func (r tiles) ReadTiles(all []tlog.Tile) (content [][]byte, err error) {
	for _, tile := range all {
		path := strings.TrimPrefix(tile.Path(), "tile/8/")
		resp, err := r.h.client.HTTP().Get(r.h.url + "/log/tile/" + path)
		if err != nil {
			return nil, err
		}
		b, err := io.ReadAll(resp.Body)
		resp.Body.Close()
		if err != nil || resp.StatusCode != http.StatusOK {
			return nil, fmt.Errorf("%s: %s %w", path, resp.Status, err)
		}
		content = append(content, b)
	}
	return content, nil
}

// Who watches a log with what others have written needs no account, and learns nothing of what is in it.
func TestTheTreeIsReadInTiles(t *testing.T) {
	t.Parallel()
	h := open(t, t.TempDir(), "127.0.0.1:0")
	ctx := t.Context()
	grow := func(from, to int) *note.Note {
		t.Helper()
		for n := from; n < to; n++ {
			_, err := h.client.AddGroup(ctx, api.NewGroup{Name: fmt.Sprintf("group-%03d", n)})
			require.NoError(t, err)
		}
		_, err := h.client.Head(ctx)
		require.NoError(t, err)
		resp, err := h.client.HTTP().Get(h.url + "/log/checkpoint")
		require.NoError(t, err)
		defer resp.Body.Close()
		text, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		keys, err := h.client.LogKeys(ctx)
		require.NoError(t, err)
		verifier, err := note.NewVerifier(keys.Log)
		require.NoError(t, err)
		signed, err := note.Open(text, note.VerifierList(verifier))
		require.NoError(t, err)
		return signed
	}
	treeOf := func(n *note.Note) (tree tlog.Tree) {
		t.Helper()
		lines := strings.Split(n.Text, "\n")
		_, err := fmt.Sscan(lines[1], &tree.N)
		require.NoError(t, err)
		root, err := base64.StdEncoding.DecodeString(lines[2])
		require.NoError(t, err)
		copy(tree.Hash[:], root)
		return tree
	}
	first := treeOf(grow(0, 20))
	second := treeOf(grow(20, 300))
	require.Greater(t, second.N, int64(256), "more than a tile")
	reader := tlog.TileHashReader(second, tiles{h})
	_, err := tlog.TreeHash(first.N, reader) // which has every tile be one of the signed tree
	require.NoError(t, err)
	path, err := tlog.ProveTree(second.N, first.N, reader)
	require.NoError(t, err)
	assert.NoError(t, tlog.CheckTree(path, second.N, second.Hash, first.N, first.Hash), "it has grown out of the first")

	for _, path := range []string{"0/001", "0/000.p/0", "9/000", "1/001", "data/000", "-1/000", "0/x999/x999/999", "0/../0", "", "0/000.p/257", "63/000", "8/000.p/1", fmt.Sprintf("0/001.p/%d", second.N-255)} {
		resp, err := h.client.HTTP().Get(h.url + "/log/tile/" + path)
		require.NoError(t, err)
		resp.Body.Close()
		assert.Equal(t, http.StatusNotFound, resp.StatusCode, path)
	}
}
