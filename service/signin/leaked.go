package signin

import (
	"bytes"
	"crypto/sha1"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
)

// LeakedPasswords is a list of passwords that became known. It is a file of SHA-1 hashes, a line each
// and sorted: 40 hexadecimal digits, and behind them nothing, or a colon and how often the password
// was seen. Such a list has up to a billion lines, so it is not read into memory: each look reads some
// thirty blocks of the file. It is safe for concurrent use.
type LeakedPasswords struct {
	file *os.File
	size int64
}

const (
	hashDigits = 2 * sha1.Size
	leakedLine = 128 // more than a line has
)

// OpenLeakedPasswords opens a list. It looks at the first and the last line: a file of another form is
// refused.
func OpenLeakedPasswords(path string) (*LeakedPasswords, error) {
	file, err := os.Open(path)
	if err != nil {
		return nil, fmt.Errorf("the list of leaked passwords: %w", err)
	}
	info, err := file.Stat()
	if err != nil {
		file.Close()
		return nil, err
	}
	l := &LeakedPasswords{file, info.Size()}
	first, _, err := l.line(0)
	if err == nil {
		var last string
		if last, _, err = l.line(max(0, l.size-3)); err == nil && last < first {
			err = errors.New("found a line that is less than the first one at the end, expected sorted lines")
		}
	}
	if err != nil {
		file.Close()
		return nil, fmt.Errorf("the list of leaked passwords, %s: %w", path, err)
	}
	return l, nil
}

// Close closes the file; of nil nothing.
func (l *LeakedPasswords) Close() error {
	if l == nil {
		return nil
	}
	return l.file.Close()
}

// line gives the hash of the line that a byte of the file is in, and where the next line begins.
func (l *LeakedPasswords) line(at int64) (hash string, next int64, err error) {
	from := max(0, at-leakedLine)
	data := make([]byte, at-from+leakedLine)
	n, err := l.file.ReadAt(data, from)
	if err != nil && !errors.Is(err, io.EOF) {
		return "", 0, err
	}
	data = data[:n]
	here := int(at - from)
	begin := bytes.LastIndexByte(data[:min(here, n)], '\n') + 1
	end := bytes.IndexByte(data[begin:], '\n')
	if end < 0 {
		end = n - begin
	}
	text := strings.TrimSuffix(string(data[begin:begin+end]), "\r")
	hash, _, _ = strings.Cut(text, ":")
	if _, err := hex.DecodeString(hash); err != nil || len(hash) != hashDigits {
		return "", 0, fmt.Errorf("found a line of %d characters, expected the 40 hexadecimal digits of a SHA-1 hash", len(text))
	}
	return strings.ToUpper(hash), from + int64(begin+end) + 1, nil
}

// Has tells whether a password is in the list, by binary search over the bytes of the file.
func (l *LeakedPasswords) Has(password string) (bool, error) {
	sum := sha1.Sum([]byte(password)) // the hash that such lists have; nothing is protected by it
	wanted := strings.ToUpper(hex.EncodeToString(sum[:]))
	// The line that is looked for begins at low or later, and before high.
	for low, high := int64(0), l.size; low < high; {
		middle := low + (high-low)/2
		hash, next, err := l.line(middle)
		switch {
		case err != nil:
			return false, err
		case hash == wanted:
			return true, nil
		case hash < wanted:
			low = next
		default:
			high = middle
		}
	}
	return false, nil
}
