package search_test

import (
	"bufio"
	"os"
	"slices"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/search"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/dictionary"
)

// TestQuestions asks what people ask for, and counts how often the setting that answers is among the
// first three: for the questions that the search was improved with, and for those it was not.
func TestQuestions(t *testing.T) {
	for _, set := range []struct {
		file    string
		inThree int // of 60, at least
	}{
		{"testdata/questions.txt", 56},
		{"testdata/unseen.txt", 50},
	} {
		t.Run(set.file, func(t *testing.T) {
			asked, first, inThree, nothing := ask(t, set.file)
			t.Logf("of %d questions %d find theirs first, %d in the first three, %d nothing", asked, first, inThree, nothing)
			if inThree*60 < set.inThree*asked {
				t.Errorf("%d of %d are in the first three, expected %d of 60", inThree, asked, set.inThree)
			}
			if nothing > 0 {
				t.Errorf("%d questions find nothing", nothing)
			}
		})
	}
}

// ask puts the questions of a file to the search and counts the answers.
func ask(t *testing.T, name string) (asked, first, inThree, nothing int) {
	t.Helper()
	file, err := os.Open(name)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	definitions := dictionary.Shipped().Settings
	index := search.New(definitions)
	for lines := bufio.NewScanner(file); lines.Scan(); {
		id, question, is := strings.Cut(lines.Text(), ": ")
		if !is || strings.HasPrefix(id, "#") {
			continue
		}
		wanted := func(d *setting.Definition) bool { return d.ID == setting.ID(id) }
		if !slices.ContainsFunc(definitions, func(d setting.Definition) bool { return wanted(&d) }) {
			t.Fatalf("there is no setting %s", id)
		}
		found := index.Search(question)
		at := slices.IndexFunc(found, wanted)
		asked++
		switch {
		case at == 0:
			first++
			inThree++
		case at > 0 && at < 3:
			inThree++
		default:
			t.Logf("%q: %s is at %d", question, id, at)
		}
		if len(found) == 0 {
			nothing++
		}
	}
	return asked, first, inThree, nothing
}
