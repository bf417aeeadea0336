// Command generate writes the tables of the demo estate into a folder.
package main

import (
	"fmt"
	"os"
	"path/filepath"

	"zenithridge.example/zridge/demo"
)

func main() {
	folder := "demo/estate"
	if len(os.Args) > 1 {
		folder = os.Args[1]
	}
	people, devices := demo.Tables()
	for name, text := range map[string]string{"people.csv": people, "devices.csv": devices} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644); err != nil {
			fmt.Fprintln(os.Stderr, "generate:", err)
			os.Exit(1)
		}
	}
}
