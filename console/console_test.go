package console

import (
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"testing"
)

var src = regexp.MustCompile(`src="(/assets/[^"]+)"`)

func TestHandler(t *testing.T) {
	h, err := Handler()
	if err != nil {
		t.Fatal(err)
	}
	get := func(path string, header ...string) *httptest.ResponseRecorder {
		r := httptest.NewRequest(http.MethodGet, path, nil)
		for i := 0; i+1 < len(header); i += 2 {
			r.Header.Set(header[i], header[i+1])
		}
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		return w
	}
	if get("/").Code == http.StatusNotFound {
		t.Skip("the console is not built; run: make build")
	}

	nonces := map[string]bool{}
	for _, path := range []string{"/", "/groups", "/groups/night-dispatch@merrowline.example/reach", "/index.html"} {
		w := get(path)
		csp := w.Header().Get("Content-Security-Policy")
		_, n, _ := strings.Cut(csp, "'nonce-")
		n, _, _ = strings.Cut(n, "'")
		nonces[n] = true
		if w.Code != 200 || w.Header().Get("Cache-Control") != "no-cache" || strings.Contains(csp, "unsafe") || len(n) < 20 ||
			!strings.Contains(w.Body.String(), n) || strings.Contains(w.Body.String(), nonce) {
			t.Errorf("%s: %d, %v", path, w.Code, w.Header())
		}
	}
	if len(nonces) != 4 {
		t.Errorf("%d values for 4 answers", len(nonces))
	}

	script := src.FindStringSubmatch(get("/").Body.String())[1]
	plain, packed := get(script), get(script, "Accept-Encoding", "gzip")
	if plain.Header().Get("Cache-Control") != "public, max-age=31536000, immutable" || !strings.Contains(plain.Header().Get("Content-Type"), "javascript") ||
		packed.Header().Get("Content-Encoding") != "gzip" || packed.Body.Len() >= plain.Body.Len() || plain.Header().Get("X-Content-Type-Options") != "nosniff" {
		t.Errorf("%s: %v, %d; packed %v, %d", script, plain.Header(), plain.Body.Len(), packed.Header(), packed.Body.Len())
	}
	if w := get(script, "If-None-Match", plain.Header().Get("ETag")); w.Code != http.StatusNotModified || w.Body.Len() != 0 {
		t.Errorf("known already: %d", w.Code)
	}
	if w := get("/assets/absent.js"); w.Code != http.StatusNotFound {
		t.Errorf("an asset that is not there: %d", w.Code)
	}
	w := httptest.NewRecorder()
	h.ServeHTTP(w, httptest.NewRequest(http.MethodPost, "/groups", nil))
	if w.Code != http.StatusMethodNotAllowed {
		t.Errorf("POST: %d", w.Code)
	}
}
