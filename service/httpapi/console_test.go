package httpapi_test

import (
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"testing/fstest"

	"zenithridge.example/zridge/service/httpapi"
)

// TestCompressedConsole asks for files of the console by what browsers say that they take.
func TestCompressedConsole(t *testing.T) {
	page := "<title>console</title>"
	handler := httpapi.New(httpapi.Config{Console: fstest.MapFS{
		"index.html":      {Data: []byte(page)},
		"assets/a.js":     {Data: []byte("plain")},
		"assets/a.js.gz":  {Data: []byte("as gzip")},
		"assets/a.js.br":  {Data: []byte("as brotli")},
		"assets/b.js":     {Data: []byte("small")},
		"assets/b.js.gz":  {Data: []byte("small, as gzip")},
		"assets/font.bin": {Data: []byte("font")},
	}})
	for _, c := range []struct{ path, takes, encoding, body string }{
		{"/assets/a.js", "gzip, deflate, br, zstd", "br", "as brotli"},
		{"/assets/a.js", "gzip", "gzip", "as gzip"},
		{"/assets/a.js", "br;q=0, gzip;q=0.5", "gzip", "as gzip"},
		{"/assets/a.js", "GZIP;q=0", "", "plain"},
		{"/assets/a.js", "brotli", "", "plain"},
		{"/assets/a.js", "", "", "plain"},
		{"/assets/b.js", "br, gzip", "gzip", "small, as gzip"},
		{"/assets/font.bin", "br, gzip", "", "font"},
		{"/policies/house-rules", "gzip, br", "", page},
	} {
		request := httptest.NewRequest(http.MethodGet, c.path, nil)
		request.Header.Set("Accept-Encoding", c.takes)
		answer := httptest.NewRecorder()
		handler.ServeHTTP(answer, request)
		body, err := io.ReadAll(answer.Result().Body)
		if err != nil {
			t.Fatal(err)
		}
		h := answer.Result().Header
		if string(body) != c.body || h.Get("Content-Encoding") != c.encoding || h.Get("Vary") != "Accept-Encoding" {
			t.Errorf(
				"%s for %q: %q as %q, Vary %q; expected %q as %q",
				c.path,
				c.takes,
				body,
				h.Get("Content-Encoding"),
				h.Get("Vary"),
				c.body,
				c.encoding,
			)
		}
	}
}
