package rule_test

import (
	"fmt"
	"strings"
	"testing"

	. "zenithridge.example/zridge/core/rule"
)

func TestPartsSayWhichOfThemIsTrue(t *testing.T) {
	r, err := Compile(OfDevice, `device.os == "linux" && (device.ram_gb >= 16 || "field" in device.tags) && !(device.os_version.below("12"))`)
	if err != nil {
		t.Fatal(err)
	}
	var lines []string
	for _, p := range r.Parts(map[string]any{"device": map[string]any{"os": "linux", "tags": []string{"field"}, "os_version": "12.5"}}) {
		failed := ""
		if p.Error != "" {
			failed = " ?"
		}
		lines = append(lines, fmt.Sprintf("%s%v %s%s%s", strings.Repeat(" ", p.Depth), p.Holds, p.Joined, p.Source, failed))
	}
	want := []string{
		`true &&device.os == "linux" && (device.ram_gb >= 16 || "field" in device.tags) && !device.os_version.below("12")`,
		` true device.os == "linux"`,
		` true ||device.ram_gb >= 16 || "field" in device.tags`,
		`  false device.ram_gb >= 16 ?`,
		`  true "field" in device.tags`,
		` true !!device.os_version.below("12")`,
		`  false device.os_version.below("12")`,
	}
	if strings.Join(lines, "\n") != strings.Join(want, "\n") {
		t.Errorf("found\n%s\nexpected\n%s", strings.Join(lines, "\n"), strings.Join(want, "\n"))
	}
	if (*Rule)(nil).Parts(nil) != nil {
		t.Error("no rule has parts")
	}
}
