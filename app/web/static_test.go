package web

import (
	"compress/gzip"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/gin-gonic/gin"
)

// TestStatic asks for styles and scripts as browsers do: packed where they can unpack it, not again where they have it,
// for good under the name of all of them, and nothing else.
func TestStatic(t *testing.T) {
	gin.SetMode(gin.TestMode)
	r := gin.New()
	r.GET("/static/*path", serveStatic)
	ask := func(path string, header ...string) *http.Response {
		req := httptest.NewRequest(http.MethodGet, path, nil)
		for i := 0; i < len(header); i += 2 {
			req.Header.Set(header[i], header[i+1])
		}
		w := httptest.NewRecorder()
		r.ServeHTTP(w, req)
		return w.Result()
	}
	whole := func(r io.Reader) string {
		b, err := io.ReadAll(r)
		if err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	for name, kind := range map[string]string{"app.js": "javascript", "css/job.css": "text/css", "vendor/next-400.woff2": "font/woff2", "mark.svg": "image/svg"} {
		plain := ask("/static/" + name)
		text := whole(plain.Body)
		want, err := staticFiles.ReadFile("static/" + name)
		if err != nil || text != string(want) || !strings.Contains(plain.Header.Get("Content-Type"), kind) || plain.Header.Get("Cache-Control") != "no-cache" {
			t.Errorf("%s: %d, %v", name, plain.StatusCode, plain.Header)
		}
		if again := ask("/static/"+name, "If-None-Match", plain.Header.Get("ETag")); again.StatusCode != http.StatusNotModified {
			t.Errorf("%s, asked for again: %d", name, again.StatusCode)
		}
		kept := ask(staticAt(name), "Accept-Encoding", "gzip, br")
		if !strings.Contains(kept.Header.Get("Cache-Control"), "immutable") {
			t.Errorf("%s is not kept: %v", name, kept.Header)
		}
		if kept.Header.Get("Content-Encoding") == "gzip" {
			z, err := gzip.NewReader(kept.Body)
			if err != nil || whole(z) != text {
				t.Errorf("%s, packed, is something else: %v", name, err)
			}
		} else if whole(kept.Body) != text {
			t.Errorf("%s is something else", name)
		}
	}
	style := whole(ask(staticAt("css/all.css")).Body)
	at := 0
	for _, name := range styles { // each whole, and in this order
		b, err := staticFiles.ReadFile("static/" + name)
		i := strings.Index(style[at:], string(b))
		if err != nil || i != 0 {
			t.Fatalf("the style does not go on with %s at byte %d: %v", name, at, err)
		}
		at += len(b)
	}
	folder, err := staticFiles.ReadDir("static/css")
	if err != nil || at != len(style) || len(folder) != len(styles)-1 {
		t.Errorf("of %d styles beside Bulma %d are sent: %v", len(folder), len(styles)-1, err)
	}
	for _, address := range modules() {
		if r := ask(address); r.StatusCode != http.StatusOK {
			t.Errorf("%s: %d", address, r.StatusCode)
		}
	}
	for _, path := range []string{"/static/", "/static/../server.go", "/static/0000000000000000/app.js", "/static/css", "/static/nothing.js"} {
		if r := ask(path); r.StatusCode != http.StatusNotFound {
			t.Errorf("%s: %d", path, r.StatusCode)
		}
	}
}
