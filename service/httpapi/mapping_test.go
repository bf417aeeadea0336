package httpapi

import (
	"bytes"
	"context"
	"errors"
	"log/slog"
	"net/http"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/wire"
)

// TestPagesCoverAListOnce follows cursors through lists of many lengths.
func TestPagesCoverAListOnce(t *testing.T) {
	for _, length := range []int{0, 1, 9, 10, 11, 100} {
		list := make([]int, length)
		for i := range list {
			list[i] = i
		}
		seen, cursor, pages := 0, "", 0
		for {
			page, err := paged(list, cursor, 10, func(i int) int { return i })
			if err != nil || page.Total != length || page.Items == nil {
				t.Fatalf("%d: %+v %v", length, page, err)
			}
			for _, i := range page.Items {
				if i != seen {
					t.Fatalf("%d: found %d, expected %d", length, i, seen)
				}
				seen++
			}
			pages++
			if cursor = page.Next; cursor == "" {
				break
			}
		}
		if seen != length || pages != max(1, (length+9)/10) {
			t.Errorf("%d: %d items on %d pages", length, seen, pages)
		}
	}
	for _, bad := range []string{"!", "LTU", "eA", "5"} {
		var faults problem.Faults
		if _, err := paged([]int{1, 2}, bad, 1, func(i int) int { return i }); !errors.As(err, &faults) {
			t.Errorf("the cursor %q: %v", bad, err)
		}
	}
	if page, err := paged([]int{1}, "OTk", 1, func(i int) int { return i }); err != nil || len(page.Items) != 0 || page.Next != "" {
		t.Errorf("a cursor beyond the end: %+v %v", page, err)
	}
}

func TestVersionsInHeaders(t *testing.T) {
	for header, want := range map[string]int64{"": -1, "*": -1, `"0"`: 0, `"17"`: 17} {
		if got, err := expectedOf(header); err != nil || got != want {
			t.Errorf("%q: %d %v", header, got, err)
		}
	}
	for _, bad := range []string{"17", `"x"`, `"-1"`, `W/"3"`} {
		if got, err := expectedOf(bad); err == nil {
			t.Errorf("%q was taken for version %d", bad, got)
		}
	}
	if etag(3) != `"3"` {
		t.Error(etag(3))
	}
}

// TestFaultsOfTheAPIRepeatNoValues makes the API library's own fault of a rejected password.
func TestFaultsOfTheAPIRepeatNoValues(t *testing.T) {
	p := newProblem(http.StatusUnprocessableEntity, "validation failed", errors.New("found hunter2"))
	if text := p.Error(); len(text) == 0 || strings.Contains(text, "hunter2") {
		t.Errorf("the problem says %s", text)
	}
	if pointer("body.items[3].name") != "/body/items/3/name" {
		t.Error(pointer("body.items[3].name"))
	}
}

// TestAFailureIsLoggedUnderItsRequest answers an error that nobody foresaw: the caller is told the
// id of the request and nothing of the error, the log has both.
func TestAFailureIsLoggedUnderItsRequest(t *testing.T) {
	var log bytes.Buffer
	s := &server{Config: Config{Log: slog.New(slog.NewTextHandler(&log, nil))}}
	told := s.fault(context.WithValue(t.Context(), requestKey{}, "r4nd0m"), errors.New("disk /secret/path is full"))
	var p *wire.Problem
	if !errors.As(told, &p) || p.Status != http.StatusInternalServerError || strings.Contains(p.Detail, "disk") {
		t.Fatalf("the caller is told %+v", told)
	}
	if !strings.Contains(p.Detail, "r4nd0m") || !strings.Contains(log.String(), "request=r4nd0m") ||
		!strings.Contains(log.String(), "/secret/path") {
		t.Errorf("told %q, logged %q", p.Detail, log.String())
	}
}
