package contents_test

import (
	"os"
	"testing"

	"zenithridge.example/zridge/contents"
)

func TestX(t *testing.T) {
	for _, n := range []string{"helpline.exe", "helpline-unsigned.exe", "helpline.xml.plist", "helpline-crew.binary.plist"} {
		data, _ := os.ReadFile("testdata/" + n)
		r, err := contents.Read(n, data, contents.Options{})
		t.Log(n, err)
		if r != nil {
			t.Logf("%+v %v", r.Application, r.Warnings)
		}
	}
}
