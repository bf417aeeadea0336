package command

import (
	"bytes"
	"fmt"
	"io"
	"unicode/utf8"
)

// shown writes to a terminal what others wrote into titles, files and addresses: characters that
// would steer it are shown by their codes.
type shown struct {
	w    io.Writer
	rest []byte // of a character that is not whole yet
}

// Write implements io.Writer.
func (s *shown) Write(data []byte) (int, error) {
	text := append(s.rest, data...)
	var out bytes.Buffer
	for len(text) > 0 {
		r, size := utf8.DecodeRune(text)
		if r == utf8.RuneError && size <= 1 && !utf8.FullRune(text) {
			break
		}
		switch {
		case r == '\n' || r == '\t' || r == '\r':
			out.WriteRune(r)
		case r < ' ' || r >= 0x7f && r < 0xa0:
			fmt.Fprintf(&out, "\\x%02x", r)
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&out, "\\x%02x", text[0])
		default:
			out.Write(text[:size])
		}
		text = text[size:]
	}
	s.rest = bytes.Clone(text)
	if _, err := s.w.Write(out.Bytes()); err != nil {
		return 0, err
	}
	return len(data), nil
}
