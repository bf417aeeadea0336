// Command commonest writes the passwords that signin refuses because many people had them, as commonest.bin: of each the
// first 8 bytes of its SHA-1, sorted. It reads a list of passwords, one a line, from the standard input and leaves out
// what is too short to be a password here.
//
// commonest.bin was made from the million most frequent of the ten million passwords that Mark Burnett published in 2015
// and placed in the public domain: 44,150 of them have 12 characters or more.
package main

import (
	"bufio"
	"bytes"
	"crypto/sha1"
	"log"
	"os"
	"slices"
	"unicode/utf8"

	"zenithridge.example/zridge/service/signin"
)

func main() {
	var hashes [][]byte
	in := bufio.NewScanner(os.Stdin)
	for in.Scan() {
		if password := in.Bytes(); utf8.RuneCount(password) >= signin.MinPassword {
			sum := sha1.Sum(password)
			hashes = append(hashes, sum[:signin.CommonHash])
		}
	}
	if err := in.Err(); err != nil {
		log.Fatal(err)
	}
	slices.SortFunc(hashes, bytes.Compare)
	if _, err := os.Stdout.Write(bytes.Join(slices.CompactFunc(hashes, bytes.Equal), nil)); err != nil {
		log.Fatal(err)
	}
}
