package command

import (
	"bytes"
	"testing"
)

// What steers a terminal is shown by its code, however it is cut into writes.
func TestShownSteersNoTerminal(t *testing.T) {
	const text = "Caf\u00e9\t\x1b[2J\u009b31m \xff\x7f ok\r\n"
	const want = "Caf\u00e9\t\\x1b[2J\\x9b31m \\xff\\x7f ok\r\n"
	for size := 1; size <= len(text); size++ {
		var out bytes.Buffer
		w := &shown{w: &out}
		for at := 0; at < len(text); at += size {
			part := text[at:min(at+size, len(text))]
			if n, err := w.Write([]byte(part)); n != len(part) || err != nil {
				t.Fatal(n, err)
			}
		}
		if out.String() != want {
			t.Fatalf("in parts of %d bytes it is %q, expected %q", size, out.String(), want)
		}
	}
}
