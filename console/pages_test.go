package console_test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"os"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/console"
)

// Whoever reloads a page of the console, or has kept its address, gets it again.
func TestEveryPageHasAnAddress(t *testing.T) {
	house, err := os.ReadFile("src/House.tsx")
	require.NoError(t, err)
	found := regexp.MustCompile(`<Route path="(/[a-z]+)"`).FindAllSubmatch(house, -1)
	require.Greater(t, len(found), 5)
	status := func(path string) int {
		w := httptest.NewRecorder()
		console.Handler(func(context.Context) string { return "" }).ServeHTTP(w, httptest.NewRequest(http.MethodGet, path, nil))
		return w.Code
	}
	for _, page := range found {
		assert.Equal(t, http.StatusOK, status(string(page[1])), "%s is missing in console.go", page[1])
	}
	assert.Equal(t, http.StatusNotFound, status("/nowhere"))
}
