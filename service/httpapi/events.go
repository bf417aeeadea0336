// This file streams live updates, and serves the API document and the console.

package httpapi

import (
	"context"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2/sse"
	"github.com/gin-gonic/gin"

	"zenithridge.example/zridge/service/scim"
	"zenithridge.example/zridge/service/workflow"
)

// keepAlive is how often an idle stream says that it lives, so that both sides notice a broken one.
const keepAlive = 20 * time.Second

// checkEach is how soon a stream ends after its session or token did.
const checkEach = 2 * time.Second

// heartbeat is the event of an idle stream.
type heartbeat struct {
	At time.Time `json:"at"`
}

func (s *server) registerEvents() {
	sse.Register(
		s.api,
		operation("events", http.MethodGet, "/events", "What changes, as it changes (server-sent events)"),
		map[string]any{"changed": workflow.Event{}, "alive": heartbeat{}},
		func(ctx context.Context, _ *struct{}, send sse.Sender) {
			caller := callerOf(ctx)
			end, ok := s.streams.begin(caller.By)
			if !ok {
				return // the browser asks again later
			}
			defer end()
			events, stop := s.Flow.Watch()
			defer stop()
			tick, check := time.NewTicker(keepAlive), time.NewTicker(checkEach)
			defer tick.Stop()
			defer check.Stop()
			if send.Data(heartbeat{time.Now()}) != nil {
				return
			}
			for {
				var err error
				select {
				case <-ctx.Done():
					return
				case <-s.Ending:
					return
				case e := <-events:
					if sees, refused := s.Flow.SeesEvent(ctx, actorOf(ctx), e); sees && refused == nil {
						err = send.Data(e)
					}
				case <-check.C:
					if !s.SignIn.Active(ctx, caller) {
						return
					}
				case at := <-tick.C:
					err = send.Data(heartbeat{at})
				}
				if err != nil {
					return
				}
			}
		},
	)
}

// document serves the OpenAPI document.
func (s *server) document() gin.HandlerFunc {
	return func(c *gin.Context) {
		data, err := s.api.OpenAPI().MarshalJSON()
		if err != nil {
			told := s.logged(c.Request.Context(), "writing the API document", "error", err)
			writeProblem(c.Writer, problemOf(http.StatusInternalServerError, "internal", told))
			return
		}
		c.Data(http.StatusOK, "application/vnd.oai.openapi+json; version=3.1", data)
	}
}

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
		c.Data(http.StatusOK, kind, data)
		return
	}
	page, err := fs.ReadFile(s.Console, "index.html")
	if err != nil || path.Ext(name) != "" && !strings.Contains(name, "/") {
		writeProblem(c.Writer, problemOf(http.StatusNotFound, "not-found", "found no such file; is the console built?"))
		return
	}
	c.Header("Cache-Control", "no-cache")
	c.Data(http.StatusOK, "text/html; charset=utf-8", page)
}
