// Package console holds the built console and serves it. It is plain files: what the console shows, it asks of
// the API like any other client.
package console

import (
	"embed"
	"io/fs"
	"net/http"
	"strings"
)

//go:embed all:dist
var dist embed.FS

const missing = `<!doctype html><meta charset="utf-8"><title>Tavrin</title>
<p>This tavrin was built without its console. Build it with: make build</p>`

// Handler serves the console's files; every other path gets its first page, which finds its way by the address.
func Handler() http.Handler {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic("console: the embedded folder is called dist: " + err.Error())
	}
	index, err := fs.ReadFile(files, "index.html")
	if err != nil {
		index = []byte(missing)
	}
	server := http.FileServerFS(files)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			http.Error(w, "the console is read-only: send changes to /api/v1", http.StatusMethodNotAllowed)
			return
		}
		name := strings.TrimPrefix(r.URL.Path, "/")
		if strings.HasPrefix(name, "assets/") || (name != "" && !strings.HasPrefix(name, ".") && isFile(files, name)) {
			if strings.HasPrefix(name, "assets/") {
				w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			server.ServeHTTP(w, r)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Write(index)
	})
}

func isFile(files fs.FS, name string) bool {
	info, err := fs.Stat(files, name)
	return err == nil && !info.IsDir()
}
