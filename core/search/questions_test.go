package search_test

import (
	"bufio"
	"os"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/search"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/dictionary"
)

// TestQuestions asks what people ask for, and counts how often the setting that answers is among the
// first three. The questions in even lines are held back: the search was not tuned to them.
func TestQuestions(t *testing.T) {
	file, err := os.Open("testdata/questions.txt")
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	index := search.New(dictionary.Shipped().Settings)
	known := map[setting.ID]bool{}
	for _, d := range dictionary.Shipped().Settings {
		known[d.ID] = true
	}
	var asked, first, inThree, nothing [2]int
	line := 0
	for lines := bufio.NewScanner(file); lines.Scan(); {
		id, question, is := strings.Cut(lines.Text(), ": ")
		if !is || strings.HasPrefix(id, "#") {
			continue
		}
		half := line % 2
		line++
		if !known[setting.ID(id)] {
			t.Fatalf("there is no setting %s", id)
		}
		found := index.Search(question)
		asked[half]++
		if len(found) == 0 {
			nothing[half]++
		}
		at := -1
		for i, d := range found {
			if d.ID == setting.ID(id) {
				at = i
				break
			}
		}
		if at == 0 {
			first[half]++
		}
		if at >= 0 && at < 3 {
			inThree[half]++
		} else if half == 0 && testing.Verbose() {
			var ids []setting.ID
			for _, d := range found[:min(len(found), 4)] {
				ids = append(ids, d.ID)
			}
			t.Logf("%q: %s at %d, found %v", question, id, at, ids)
		}
	}
	for half, name := range []string{"for improving", "held back"} {
		t.Logf("%s: of %d questions %d find theirs first, %d in the first three, %d nothing", name, asked[half], first[half], inThree[half], nothing[half])
		if inThree[half]*60 < 55*asked[half] {
			t.Errorf("%s: %d of %d are in the first three, expected 55 of 60", name, inThree[half], asked[half])
		}
		if nothing[half] > 0 {
			t.Errorf("%s: %d questions find nothing", name, nothing[half])
		}
	}
}
