package objects_test

import (
	"bytes"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/core/fault"
	"jugate/core/objects"
)

func tarOf(t testing.TB) []byte {
	t.Helper()
	var b bytes.Buffer
	w := objects.NewTarWriter(&b, os.TempDir(), time.Unix(0, 0))
	_, err := w.Put(t.Context(), "a/one", []byte("Draba"), objects.Absent)
	require.NoError(t, err)
	require.NoError(t, w.Write(t.Context(), "b", strings.NewReader(strings.Repeat("alpina", 1000))))
	assert.ErrorIs(t, w.Write(t.Context(), "b", strings.NewReader("")), objects.ErrCondition)
	assert.ErrorIs(t, w.Write(t.Context(), "../b", strings.NewReader("")), objects.ErrName)
	o, err := w.Stat(t.Context(), "b")
	require.NoError(t, err)
	assert.Equal(t, int64(6000), o.Size)
	require.NoError(t, w.Close())
	return b.Bytes()
}

func TestObjectsInATar(t *testing.T) {
	raw := tarOf(t)
	s, err := objects.OpenTar(bytes.NewReader(raw), int64(len(raw)))
	require.NoError(t, err)
	b, err := objects.Read(t.Context(), s, "b", 10_000)
	require.NoError(t, err)
	assert.Len(t, b, 6000)
	r, err := s.Open(t.Context(), "a/one", 2, 2)
	require.NoError(t, err)
	part := make([]byte, 10)
	n, _ := r.Read(part)
	assert.Equal(t, "ab", string(part[:n]))
	var all []string
	for o, err := range s.List(t.Context(), "") {
		require.NoError(t, err)
		all = append(all, o.Name)
	}
	assert.Equal(t, []string{"a/one", "b"}, all)
	_, err = s.Stat(t.Context(), "c")
	assert.ErrorIs(t, err, objects.ErrNotFound)
	_, err = objects.OpenTar(bytes.NewReader(raw), int64(len(raw)/2))
	assert.ErrorIs(t, err, fault.Invalid)
}

func FuzzOpenTar(f *testing.F) {
	f.Add(tarOf(f))
	f.Fuzz(func(t *testing.T, raw []byte) {
		s, err := objects.OpenTar(bytes.NewReader(raw), int64(len(raw)))
		if err != nil {
			return
		}
		for o, err := range s.List(t.Context(), "") {
			require.NoError(t, err)
			assert.NoError(t, objects.CheckName(o.Name))
			b, err := objects.Read(t.Context(), s, o.Name, 1<<20)
			if err == nil {
				assert.LessOrEqual(t, len(b), len(raw))
			}
		}
	})
}
