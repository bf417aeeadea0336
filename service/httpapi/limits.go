// This file keeps requests from taking the service down: how long one may take, how many
// connections an address may have, how many bytes of bodies are held at once, how many streams a
// session may have.

package httpapi

import (
	"context"
	"mime"
	"net"
	"net/http"
	"net/netip"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"

	"zenithridge.example/zridge/core/problem"
)

const (
	within        = time.Minute     // to read a request and to write its answer, unless a handler says otherwise
	discardFor    = 5 * time.Second // to read what is left of a body that nobody wanted
	assumedBody   = int64(1 << 20)  // bytes of a body whose length is not said
	streamsAtOnce = 8               // of one session or token
)

// Bytes of bodies that are held in memory at once. Large bodies, such as files, wait for one
// another for a while, so that several people may send theirs at once; what is small never waits
// behind them.
const (
	largeBody   = int64(1 << 20)  // bytes from which on a body is large
	largeAtOnce = int64(40 << 20) // a file of the largest size that is taken by default, and some more
	smallAtOnce = int64(64 << 20)
	waitForRoom = 20 * time.Second
)

// limited puts limits around the handler of everything that the service answers.
func limited(next http.Handler) http.Handler {
	small, large := semaphore.NewWeighted(smallAtOnce), semaphore.NewWeighted(largeAtOnce)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		control := http.NewResponseController(w)
		now := time.Now()
		if r.URL.Path != "/api/v1/events" || r.Method != http.MethodGet { // a stream has a deadline for each event
			control.SetReadDeadline(now.Add(within))
			control.SetWriteDeadline(now.Add(within))
		}
		// Whatever a handler made of the deadlines, a body that it did not read holds the
		// connection no longer than this.
		defer func() { control.SetReadDeadline(time.Now().Add(discardFor)) }()
		if r.Method == http.MethodHead { // as GET; the answer is sent without its body
			r = r.Clone(r.Context())
			r.Method = http.MethodGet
		}
		if kind := r.Header.Get("Content-Type"); kind != "" {
			if _, _, err := mime.ParseMediaType(kind); err != nil {
				writeProblem(
					w,
					problemOf(http.StatusUnsupportedMediaType, "wrong-content-type", "found "+problem.Quote(kind)+", expected a media type"),
				)
				return
			}
		}
		if held := heldOf(r); held > 0 {
			bodies, ok := small, false
			if held <= largeBody {
				ok = small.TryAcquire(held)
			} else {
				bodies = large
				ok = waitFor(r.Context(), large, held)
				control.SetReadDeadline(time.Now().Add(within))
				control.SetWriteDeadline(time.Now().Add(within))
			}
			if !ok {
				w.Header().Set("Retry-After", "2")
				writeProblem(w, problemOf(http.StatusServiceUnavailable, "busy", "The service is busy with other requests. Try again "+
					"in a moment."))
				return
			}
			defer bodies.Release(held)
			if bodies == large {
				defer debug.FreeOSMemory() // else the garbage of several large bodies adds up
			}
		}
		next.ServeHTTP(w, r)
	})
}

// waitFor waits for room for a large body, in the order in which they came. ok is false where there
// is none in time.
func waitFor(ctx context.Context, room *semaphore.Weighted, held int64) (ok bool) {
	limit, cancel := context.WithTimeout(ctx, waitForRoom)
	defer cancel()
	return room.Acquire(limit, held) == nil
}

// heldOf gives how many bytes of a request's body are held in memory. Tables are read as they come.
func heldOf(r *http.Request) int64 {
	switch {
	case r.Body == nil || r.Body == http.NoBody || strings.HasSuffix(r.URL.Path, "/tables"):
		return 0
	case r.ContentLength < 0:
		return assumedBody
	}
	return min(r.ContentLength, largeAtOnce)
}

// streams counts the streams of each session or token.
type streams struct {
	mu   sync.Mutex
	open map[string]int
}

// begin counts a stream of somebody; ok is false where they have as many as they may.
func (s *streams) begin(of string) (end func(), ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.open[of] >= streamsAtOnce {
		return nil, false
	}
	if s.open == nil {
		s.open = map[string]int{}
	}
	s.open[of]++
	return func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.open[of]--; s.open[of] == 0 {
			delete(s.open, of)
		}
	}, true
}

// LimitConnections gives a listener that closes the connections of an address beyond so many at
// once. Proxies have as many as they open: theirs are the connections of everybody behind them,
// whom they limit.
func LimitConnections(inner net.Listener, each int, proxies []netip.Prefix) net.Listener {
	return &countingListener{Listener: inner, each: each, proxies: proxies, open: map[string]int{}}
}

type countingListener struct {
	net.Listener
	each    int
	proxies []netip.Prefix

	mu   sync.Mutex
	open map[string]int // by address
}

// Accept implements net.Listener.
func (l *countingListener) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		from, _, err := net.SplitHostPort(c.RemoteAddr().String())
		if err != nil {
			from = c.RemoteAddr().String()
		}
		if at, err := netip.ParseAddr(from); err == nil &&
			slices.ContainsFunc(l.proxies, func(p netip.Prefix) bool { return p.Contains(at.Unmap()) }) {
			return c, nil
		}
		l.mu.Lock()
		full := l.open[from] >= l.each
		if !full {
			l.open[from]++
		}
		l.mu.Unlock()
		if full {
			c.Close()
			continue
		}
		return &countedConn{Conn: c, ended: sync.OnceFunc(func() {
			l.mu.Lock()
			defer l.mu.Unlock()
			if l.open[from]--; l.open[from] == 0 {
				delete(l.open, from)
			}
		})}, nil
	}
}

type countedConn struct {
	net.Conn
	ended func()
}

// Close implements net.Conn.
func (c *countedConn) Close() error {
	c.ended()
	return c.Conn.Close()
}
