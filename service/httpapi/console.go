// This file serves the console: its files, and its page for every address of its own.

package httpapi

import (
	"io/fs"
	"mime"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"zenithridge.example/zridge/service/scim"
)

// interfaces are the addresses below which no page of the console is.
var interfaces = []string{"dm", "enrol", "scim"}

// noRoute serves the console's files, its page for every address of its own, and problems for the
// rest.
func (s *server) noRoute(c *gin.Context) {
	name := strings.TrimPrefix(path.Clean(c.Request.URL.Path), "/")
	if strings.HasPrefix(name, "scim/") || name == "scim" {
		refuseSCIM(c, &scim.Error{Status: http.StatusNotFound, Detail: "found no such address"})
		return
	}
	if slices.ContainsFunc(interfaces, func(i string) bool { return name == i || strings.HasPrefix(name, i+"/") }) {
		writeProblem(c.Writer, problemOf(http.StatusNotFound, "not-found", "found no such address"))
		return
	}
	if strings.HasPrefix(name, "api/") || name == "api" {
		if s.signedIn(c); !c.IsAborted() {
			writeProblem(c.Writer, problemOf(http.StatusNotFound, "not-found", "found no such address"))
		}
		return
	}
	if c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead || s.Console == nil {
		writeProblem(c.Writer, problemOf(http.StatusNotFound, "not-found", "found no such address"))
		return
	}
	if data, err := fs.ReadFile(s.Console, name); err == nil && name != "" {
		kind := mime.TypeByExtension(path.Ext(name))
		c.Header("Cache-Control", "no-cache")
		if strings.HasPrefix(name, "assets/") { // their names have a sum of their content
			c.Header("Cache-Control", "public, max-age=31536000, immutable")
		}
		s.sendConsoleFile(c, name, kind, data)
		return
	}
	page, err := fs.ReadFile(s.Console, "index.html")
	if err != nil || path.Ext(name) != "" && !strings.Contains(name, "/") {
		writeProblem(c.Writer, problemOf(http.StatusNotFound, "not-found", "found no such file; is the console built?"))
		return
	}
	c.Header("Cache-Control", "no-cache")
	s.sendConsoleFile(c, "index.html", "text/html; charset=utf-8", page)
}

// encodings are those in which the console is built, by the ending of their files; the best is first.
var encodings = []struct{ name, ending string }{{"br", ".br"}, {"gzip", ".gz"}}

// sendConsoleFile sends a file of the console, compressed where it was built so and the browser takes
// it.
func (s *server) sendConsoleFile(c *gin.Context, name, kind string, data []byte) {
	c.Header("Vary", "Accept-Encoding")
	for _, e := range encodings {
		if !accepts(c.GetHeader("Accept-Encoding"), e.name) {
			continue
		}
		if compressed, err := fs.ReadFile(s.Console, name+e.ending); err == nil {
			c.Header("Content-Encoding", e.name)
			data = compressed
			break
		}
	}
	c.Data(http.StatusOK, kind, data)
}

// accepts tells whether an Accept-Encoding header (RFC 9110, section 12.5.3) names a coding that is
// not refused by a weight of zero.
func accepts(header, coding string) bool {
	for part := range strings.SplitSeq(header, ",") {
		name, weight, _ := strings.Cut(strings.TrimSpace(part), ";")
		if strings.EqualFold(strings.TrimSpace(name), coding) {
			q, err := strconv.ParseFloat(strings.TrimPrefix(strings.TrimSpace(weight), "q="), 64)
			return err != nil || q > 0
		}
	}
	return false
}
