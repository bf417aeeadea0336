package contents_test

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/contents"
)

// FuzzRead reads whatever bytes come: they are read or refused, and a refusal is a fault that says
// what was found and expected.
func FuzzRead(f *testing.F) {
	entries, err := filepath.Glob("testdata/*.*")
	if err != nil || len(entries) < 6 {
		f.Fatal(entries, err)
	}
	for _, path := range entries {
		data, err := os.ReadFile(path)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(data, uint8(0))
		f.Add(data, uint8(3))
	}
	for _, text := range []string{"-----BEGIN CERTIFICATE-----\nMAo=\n-----END CERTIFICATE-----\n",
		`{"format": "zenith-ridge/application-rules/1"}`, "[Desktop Entry]\nType=Application\nExec=x\n", "!<arch>\ndebian-binary   0",
		"PK\x03\x04", "0\x82\x01"} {
		f.Add([]byte(text), uint8(1))
	}
	f.Fuzz(func(t *testing.T, data []byte, expect uint8) {
		o := contents.Options{Expect: setting.Contents[int(expect)%len(setting.Contents)]}
		r, err := contents.Read("fuzzed", data, o)
		var faults problem.Faults
		switch {
		case err != nil && !errors.As(err, &faults):
			t.Errorf("the error is %T: %v", err, err)
		case err != nil && (faults[0].Found == "" || faults[0].Expected == ""):
			t.Errorf("the fault says too little: %v", err)
		case err == nil && o.Expect != setting.AnyContent && r.Content != o.Expect:
			t.Errorf("taken as %s where %s was expected", r.Content, o.Expect)
		}
	})
}
