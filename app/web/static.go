package web

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"slices"
	"strings"
	"sync"

	"github.com/gin-gonic/gin"
)

// asset is a style, script, font or picture as it is sent.
type asset struct {
	plain, packed []byte // packed by gzip, nil where that saves nothing
	kind          string // its media type
	tag           string // ETag of its contents
}

// assets are all of them by their paths, and a name for all of them as they are: an address with that name in it never
// says anything else, so that browsers need not ask again.
type assets struct {
	list    map[string]*asset
	modules []string // that app.js imports: their addresses
	hash    string
}

// styles are what css/all.css is made of: a later one has the last word.
var styles = []string{
	"vendor/bulma.css", "css/colours.css", "css/basics.css", "css/frame.css", "css/bench.css", "css/job.css", "css/map.css",
	"css/counter.css", "css/pages.css", "css/report.css", "css/narrow.css", "css/still.css",
}

var served = sync.OnceValue(func() *assets {
	static, err := fs.Sub(staticFiles, "static")
	if err != nil {
		panic(err) // the folder is embedded
	}
	a := &assets{list: map[string]*asset{}}
	all := sha256.New()
	err = fs.WalkDir(static, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := fs.ReadFile(static, name)
		if err != nil {
			return err
		}
		a.list[name] = assetOf(name, b)
		all.Write([]byte(name + a.list[name].tag))
		return nil
	})
	if err != nil {
		panic(err) // they are embedded
	}
	a.hash = hex.EncodeToString(all.Sum(nil)[:8])
	var style []byte
	for _, name := range styles {
		style = append(style, a.list[name].plain...)
	}
	a.list["css/all.css"] = assetOf("css/all.css", style)
	for name := range a.list {
		if path.Ext(name) == ".js" && name != "app.js" {
			a.modules = append(a.modules, "/static/"+a.hash+"/"+name)
		}
	}
	slices.Sort(a.modules)
	return a
})

// assetOf is what is sent for a file of that name.
func assetOf(name string, b []byte) *asset {
	sum := sha256.Sum256(b)
	return &asset{
		plain: b, packed: packed(b),
		kind: mime.TypeByExtension(path.Ext(name)), tag: `"` + hex.EncodeToString(sum[:8]) + `"`,
	}
}

// packed is b by gzip, nil where it is not smaller by a tenth.
func packed(b []byte) []byte {
	var out bytes.Buffer
	w, err := gzip.NewWriterLevel(&out, gzip.BestCompression)
	if err == nil {
		_, err = w.Write(b)
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil || out.Len() > len(b)*9/10 {
		return nil
	}
	return out.Bytes()
}

// staticAt is the address of a style or a script.
func staticAt(name string) string { return "/static/" + served().hash + "/" + name }

// modules are the addresses of what the page's script is made of: a browser fetches them along with it, not after it.
func modules() []string { return served().modules }

// serveStatic answers with what the address names.
func serveStatic(c *gin.Context) {
	all := served()
	name, kept := strings.CutPrefix(strings.TrimPrefix(c.Param("path"), "/"), all.hash+"/")
	a := all.list[name]
	if a == nil {
		c.String(http.StatusNotFound, "There is no such file.")
		return
	}
	h := c.Writer.Header()
	h.Set("Cache-Control", "no-cache") // asked for again each time, and answered in short
	if kept {
		h.Set("Cache-Control", "public, max-age=31536000, immutable")
	}
	h.Set("ETag", a.tag)
	h.Set("Vary", "Accept-Encoding")
	if c.GetHeader("If-None-Match") == a.tag {
		c.Status(http.StatusNotModified)
		return
	}
	b := a.plain
	if a.packed != nil && strings.Contains(c.GetHeader("Accept-Encoding"), "gzip") {
		h.Set("Content-Encoding", "gzip")
		b = a.packed
	}
	c.Data(http.StatusOK, a.kind, b)
}
