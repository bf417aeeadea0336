package report

import "testing"

func TestNoCellIsAFormula(t *testing.T) {
	for text, want := range map[string]string{
		"": "", "Ines": "Ines", "a=1": "a=1", " =1": " =1",
		"=HYPERLINK(\"x\")": "'=HYPERLINK(\"x\")", "+1": "'+1", "-1": "'-1", "@SUM(A1)": "'@SUM(A1)", "\t=1": "'\t=1", "\r=1": "'\r=1",
	} {
		if got := Cell(text); got != want {
			t.Errorf("%q becomes %q, expected %q", text, got, want)
		}
	}
}
