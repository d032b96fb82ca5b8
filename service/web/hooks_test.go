package web

import (
	"crypto/rand"
	"encoding/base64"
	"net/http"
	"net/http/httptest"
	"os"
	"regexp"
	"testing"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jugate/service/notify"
)

// Whoever takes webhooks is somebody else's program, and may do anything.
func TestWhatAnAddressOfWebhooksMayDo(t *testing.T) {
	elsewhere := 0
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { elsewhere++ }))
	defer other.Close()
	var answer http.HandlerFunc
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { answer(w, r) }))
	defer s.Close()
	key := make([]byte, 32)
	rand.Read(key)
	post := func(how http.HandlerFunc) error {
		answer = how
		return Hooks{}.Post(t.Context(), notify.Endpoint{URL: s.URL, Secret: "whsec_" + base64.StdEncoding.EncodeToString(key)}, "msg_1", time.Now(), []byte("{}"))
	}
	status := func(code int) http.HandlerFunc {
		return func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(code) }
	}
	require.NoError(t, post(status(http.StatusNoContent)))
	assert.ErrorIs(t, post(status(http.StatusGone)), notify.ErrGone)
	assert.ErrorIs(t, post(status(http.StatusRequestEntityTooLarge)), notify.ErrRefused)
	for _, code := range []int{http.StatusTooManyRequests, http.StatusInternalServerError, http.StatusBadGateway} {
		err := post(status(code))
		assert.ErrorContains(t, err, http.StatusText(code))
		assert.NotErrorIs(t, err, notify.ErrRefused, "it may take another one as little")
	}

	t.Log("# it sends nobody elsewhere")
	err := post(func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, other.URL, http.StatusTemporaryRedirect)
	})
	assert.ErrorContains(t, err, "307")
	assert.Zero(t, elsewhere)

	t.Log("# an answer without end is not read to its end")
	require.NoError(t, post(func(w http.ResponseWriter, _ *http.Request) {
		for b := make([]byte, 64<<10); ; {
			if _, err := w.Write(b); err != nil {
				return
			}
		}
	}))
	require.Error(t, post(func(w http.ResponseWriter, _ *http.Request) { panic(http.ErrAbortHandler) }))
	assert.Error(t, Hooks{}.Post(t.Context(), notify.Endpoint{URL: s.URL, Secret: "whsec_!"}, "msg_1", time.Now(), nil))
	assert.Error(t, Hooks{}.Post(t.Context(), notify.Endpoint{URL: s.URL, Certificate: "nonsense", Secret: "whsec_AAAA"}, "msg_1", time.Now(), nil))
}

// The guide's example is what a program would have to verify. The judge is the library of Standard Webhooks.
func TestTheExampleOfTheGuideIsSigned(t *testing.T) {
	text, err := os.ReadFile("../../docs/notifications.md")
	require.NoError(t, err)
	found := func(pattern string) string {
		m := regexp.MustCompile(pattern).FindSubmatch(text)
		require.NotNil(t, m, pattern)
		return string(m[1])
	}
	judge, err := standardwebhooks.NewWebhook(found("signed above with `(whsec_[^`]+)`"))
	require.NoError(t, err)
	header := http.Header{}
	for _, name := range []string{standardwebhooks.HeaderWebhookID, standardwebhooks.HeaderWebhookTimestamp, standardwebhooks.HeaderWebhookSignature} {
		header.Set(name, found(name+": (.+)"))
	}
	require.NoError(t, judge.VerifyIgnoringTimestamp([]byte(found("(?s)```json\n(.+?)\n```")), header))
}
