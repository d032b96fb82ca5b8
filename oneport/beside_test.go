package oneport

import (
	"bytes"
	"errors"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestEveryByteBesideTheStreamAsksFirst(t *testing.T) {
	file := filepath.Join(t.TempDir(), "map")
	content := bytes.Repeat([]byte("slab map "), 100_000)
	require.NoError(t, os.WriteFile(file, content, 0o600))
	request := httptest.NewRequest(http.MethodGet, "/map", nil)

	asked, out := 0, httptest.NewRecorder()
	http.ServeFile(&besideWriter{ResponseWriter: out, may: func(n int) error { asked += n; return nil }}, request, file)
	assert.Equal(t, len(content), asked)
	assert.Equal(t, content, out.Body.Bytes())

	t.Log("# a caller that has gone gets nothing more")
	asked, out = 0, httptest.NewRecorder()
	http.ServeFile(&besideWriter{ResponseWriter: out, may: func(n int) error {
		if asked += n; asked > len(content)/2 {
			return errors.New("gone")
		}
		return nil
	}}, request, file)
	assert.Less(t, out.Body.Len(), len(content)*2/3)
}
