// Command generate writes the pages of the dictionary into a folder.
package main

import (
	"fmt"
	"os"
	"path/filepath"

	"zenithridge.example/zridge/dictionary"
	"zenithridge.example/zridge/dictionary/pages"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "generate: expected the FOLDER that the pages go into")
		os.Exit(2)
	}
	for name, text := range pages.All(dictionary.Shipped(), dictionary.Areas) {
		if err := os.WriteFile(filepath.Join(os.Args[1], name), []byte(text), 0o644); err != nil {
			fmt.Fprintln(os.Stderr, "generate:", err)
			os.Exit(1)
		}
	}
}
