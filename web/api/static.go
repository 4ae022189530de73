package api

import (
	"io/fs"
	"net/http"
	"path"
	"strings"

	"welkin/web/ui"
)

// static serves the built front end. A path that names no file is a page of the
// application and gives its index; a missing file under assets/ or api/ is an
// error.
func static() http.Handler {
	dist, _ := fs.Sub(ui.Dist, "dist")
	files := http.FileServerFS(dist)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if info, err := fs.Stat(dist, name); err == nil && !info.IsDir() {
			if strings.HasPrefix(name, "assets/") { // their names change with their content
				w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			files.ServeHTTP(w, r)
			return
		}
		if strings.HasPrefix(name, "assets/") || strings.HasPrefix(name, "api/") || r.Method != http.MethodGet && r.Method != http.MethodHead {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Cache-Control", "no-cache")
		http.ServeFileFS(w, r, dist, "index.html")
	})
}
