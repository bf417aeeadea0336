// This file streams live updates, and serves the API document.

package httpapi

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2/sse"
	"github.com/gin-gonic/gin"

	"zenithridge.example/zridge/service/workflow"
)

// keepAlive is how often an idle stream says that it lives, so that both sides notice a broken one.
const keepAlive = 20 * time.Second

// checkEach is how soon a stream ends after its session or token did.
const checkEach = 2 * time.Second

// Over HTTP/2 a stream is reset when the deadline of its last event passes, though nothing is being written: it has
// to last until the next heartbeat.
func init() { sse.WriteTimeout = 2 * keepAlive }

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
