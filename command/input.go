// This file reads what a command is given as a file or through the standard input.

package command

import (
	"fmt"
	"io"
	"os"
)

// maxInput is the size of the largest input that is read, in bytes.
const maxInput = 64 << 20

// readInput reads a file, or the standard input where the name is -.
func readInput(s Streams, name string) ([]byte, error) {
	from := s.In
	if name != "-" {
		file, err := os.Open(name)
		if err != nil {
			return nil, err
		}
		defer file.Close()
		from = file
	}
	data, err := io.ReadAll(io.LimitReader(from, maxInput+1))
	if err == nil && len(data) > maxInput {
		err = fmt.Errorf("%s: found more than %d bytes, expected at most so many", name, maxInput)
	}
	return data, err
}
