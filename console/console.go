// Package console holds the built console and serves it.
package console

import (
	"bytes"
	"compress/gzip"
	"crypto/rand"
	"crypto/sha256"
	"embed"
	"encoding/base64"
	"encoding/hex"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strings"
)

//go:embed all:dist
var dist embed.FS

// asset is a file as it is served: worked out once, at start.
type asset struct {
	kind string
	etag string
	raw  []byte
	gzip []byte // nil where it would not be smaller
}

// nonce is the place in index.html where each answer has a value of its own.
const nonce = "__NONCE__"

// Handler serves the console: assets for ever, since their names change with their
// contents, and index.html for every other path, since the console finds its own way.
func Handler() (http.Handler, error) {
	assets := map[string]asset{}
	err := fs.WalkDir(dist, "dist", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.HasPrefix(d.Name(), ".") {
			return err
		}
		raw, err := dist.ReadFile(name)
		if err != nil {
			return err
		}
		sum := sha256.Sum256(raw)
		a := asset{kind: mime.TypeByExtension(path.Ext(name)), etag: `"` + hex.EncodeToString(sum[:8]) + `"`, raw: raw}
		var z bytes.Buffer
		zw, _ := gzip.NewWriterLevel(&z, gzip.BestCompression)
		zw.Write(raw)
		zw.Close()
		if z.Len() < len(raw)*9/10 {
			a.gzip = z.Bytes()
		}
		assets[strings.TrimPrefix(name, "dist")] = a
		return nil
	})
	if err != nil {
		return nil, err
	}
	index := assets["/index.html"]
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			http.Error(w, "The console is read with GET.", http.StatusMethodNotAllowed)
			return
		}
		a, found := assets[r.URL.Path]
		switch {
		case found && r.URL.Path != "/index.html":
			a.serve(w, r)
		case strings.HasPrefix(r.URL.Path, "/assets/"):
			http.NotFound(w, r)
		case index.raw == nil:
			http.Error(w, "This program was built without its console. Build it with: make build", http.StatusNotFound)
		default:
			page(w, index.raw)
		}
	}), nil
}

func (a asset) serve(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("Content-Type", a.kind)
	h.Set("ETag", a.etag)
	h.Set("Vary", "Accept-Encoding")
	h.Set("Cache-Control", "no-cache")
	if strings.HasPrefix(r.URL.Path, "/assets/") {
		h.Set("Cache-Control", "public, max-age=31536000, immutable")
	}
	if r.Header.Get("If-None-Match") == a.etag {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	body := a.raw
	if a.gzip != nil && strings.Contains(r.Header.Get("Accept-Encoding"), "gzip") {
		h.Set("Content-Encoding", "gzip")
		body = a.gzip
	}
	_, _ = w.Write(body)
}

func page(w http.ResponseWriter, index []byte) {
	b := make([]byte, 16)
	rand.Read(b)
	n := base64.RawStdEncoding.EncodeToString(b)
	h := w.Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Cache-Control", "no-cache")
	h.Set("Content-Security-Policy", "default-src 'self'; script-src 'self'; style-src 'self' 'nonce-"+n+"'; img-src 'self' data:; font-src 'self'; "+
		"connect-src 'self'; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
	_, _ = w.Write(bytes.ReplaceAll(index, []byte(nonce), []byte(n)))
}
