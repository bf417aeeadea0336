package endpoint

import (
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"

	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/syncml"
)

// TestFilesAreComparedWithTheirHash fetches a file that is right, one that is another, and one that
// can't be had.
func TestFilesAreComparedWithTheirHash(t *testing.T) {
	good := []byte("the bytes")
	sum := sha256.Sum256(good)
	hash := hex.EncodeToString(sum[:])
	other := hex.EncodeToString(make([]byte, 32))
	var asked atomic.Int32
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		if device, secret, _ := r.BasicAuth(); device != "LT-1" || secret != "s" {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		switch r.URL.Path {
		case "/dm/files/" + hash, "/dm/files/" + other:
			w.Write(good)
		default:
			w.WriteHeader(http.StatusNotFound)
		}
	}))
	defer server.Close()
	laptop := func(secret string) *Laptop {
		return New(server.URL, server.Client(), Identity{Device: "LT-1", Secret: secret}, &Memory{})
	}
	file := func(hash string) setting.Value { return setting.FileValue(setting.File{SHA256: hash, Name: "x"}) }
	l := laptop("s")
	table := setting.TableValue([]setting.Row{{"certificate": file(hash)}, {"purpose": setting.TextValue("none")}})
	for _, v := range []setting.Value{file(hash), table, setting.BoolValue(true), setting.ListValue(nil)} {
		if code := l.fetch(v); code != syncml.OK {
			t.Errorf("%v: %s", v, code)
		}
	}
	if n := asked.Load(); n != 1 {
		t.Errorf("it asked %d times for one file", n)
	}
	for want, v := range map[string]setting.Value{syncml.SizeMismatch: file(other), syncml.NotFound: file("nowhere")} {
		if code := l.fetch(v); code != want {
			t.Errorf("%v: %s, expected %s", v, code, want)
		}
	}
	if code := laptop("wrong").fetch(file(hash)); code != syncml.NotFound {
		t.Errorf("with a wrong secret: %s", code)
	}
	gone := laptop("s")
	server.Close()
	if code := gone.fetch(file(hash)); code != syncml.Failed {
		t.Errorf("with no service: %s", code)
	}
}

// TestWhatSomebodySetByHand is the same for the same laptop, and is overridden by what is managed.
func TestWhatSomebodySetByHand(t *testing.T) {
	a, b := SetUpByHand("LT-0001"), SetUpByHand("LT-0001")
	for id, v := range a {
		if !b[id].Equal(v) {
			t.Errorf("%s is %v, then %v", id, v, b[id])
		}
	}
	m := &Memory{Own: a}
	if len(m.Reported()) != 0 {
		t.Error("what nothing manages is reported as managed")
	}
	if v, known := m.Observe("system.keyboard"); !known || !v.Equal(a["system.keyboard"]) {
		t.Errorf("%v %v", v, known)
	}
	if _, known := m.Observe("no.such"); known {
		t.Error("it observes what it does not have")
	}
}
