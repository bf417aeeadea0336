package signin

import (
	"bytes"
	"crypto/sha1"
	_ "embed"
	"sort"
)

// CommonHash is how many bytes of a password's SHA-1 the list of common passwords has. Among its
// 44,150 passwords, another one is taken for a common one once in 4e14 times.
const CommonHash = 8

// commonest has the passwords of MinPassword characters or more among the million that leaked most
// often: of each the first CommonHash bytes of its SHA-1, sorted. Command commonest writes it.
//
//go:embed commonest.bin
var commonest []byte

// isCommon tells whether a password is among those that leaked most often.
func isCommon(password string) bool {
	sum := sha1.Sum([]byte(password))
	hash := sum[:CommonHash]
	at := func(i int) []byte { return commonest[i*CommonHash : (i+1)*CommonHash] }
	n := len(commonest) / CommonHash
	i := sort.Search(n, func(i int) bool { return bytes.Compare(at(i), hash) >= 0 })
	return i < n && bytes.Equal(at(i), hash)
}
