package workflow

import (
	"bytes"
	"log/slog"
	"strings"
	"testing"

	"zenithridge.example/zridge/service/store"
)

// TestAReaderThatPanicsFailsItsRun reads a source without a set-up, which cannot be stored: the
// reader panics, the run fails, and the log says where.
func TestAReaderThatPanicsFailsItsRun(t *testing.T) {
	var log bytes.Buffer
	s := &SourceService{liveEstate: &liveEstate{log: slog.New(slog.NewTextHandler(&log, nil))}}
	reading, err := s.readGuarded(t.Context(), store.Source{ID: "company"}, &Run{})
	if reading != nil || err == nil || !strings.Contains(err.Error(), "the service failed") {
		t.Errorf("%v, %v", reading, err)
	}
	if text := log.String(); !strings.Contains(text, "source=company") || !strings.Contains(text, "runs.go") {
		t.Errorf("the log says %s", text)
	}
}
