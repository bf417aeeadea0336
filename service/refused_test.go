package service_test

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service"
)

// TestRefusalsAreRecorded has somebody ask for more than they may do, once and many times. The audit
// log says who asked, from where and what was missing, and a flood is not a flood of records.
func TestRefusalsAreRecorded(t *testing.T) {
	t.Parallel()
	api, as := scoped(t)
	reader := as("tomas", wire.NewGrant{Role: "reader"})
	for range 50 {
		if err := newChange(t, reader); statusOf(err) != http.StatusForbidden {
			t.Fatalf("a reader opened a change: %v", err)
		}
	}
	fleet := as("noor", wire.NewGrant{Role: "author", Unit: "fleet"})
	change := posted[wire.Change](t, api, "/changes", wire.NewChange{Title: "Elsewhere"})
	path := client.Path("changes", change.ID, "edits", "policies", "house")
	if _, err := fleet.Call(t.Context(), http.MethodPut, path, nil, []byte(everywhere), nil); codeOf(err) != "outside-scope" {
		t.Fatalf("an author of the fleet wrote a policy for everybody: %v", err)
	}
	told := map[string]int{}
	for _, r := range get[[]wire.AuditRecord](t, api, "/audit?action=refused:+needs+write") {
		told[r.By]++
		if !strings.Contains(r.After, "127.0.0.1") {
			t.Errorf("the record does not say from where: %+v", r)
		}
	}
	if told["tomas"] < 1 || told["tomas"] > 2 || told["noor"] != 1 {
		t.Errorf("recorded: %v", told)
	}
}

// everywhere is a policy that no unit bounds.
const everywhere = `{"id":"house","kind":"security","settings":{"media.camera":true},"audience":{"include":["everyone"]}}`

func newChange(t *testing.T, api *client.Client) error {
	t.Helper()
	_, err := client.Post[wire.Change](t.Context(), api, "/changes", wire.NewChange{Title: "More than I may"})
	return err
}

// TestFilesHaveLittleSpace fills what files may take. The same file again takes nothing.
func TestFilesHaveLittleSpace(t *testing.T) {
	t.Parallel()
	running := startWith(t, service.Config{Database: filepath.Join(t.TempDir(), "z.db"), Space: 3000})
	api := firstAdministrator(t, running.Address, running.SetupCode)
	add := func(fill byte) (int, string) {
		status, _, body := ask(t, http.MethodPost, api.Base+"/api/v1/files?name=a.bin&content=any", bytes.Repeat([]byte{fill}, 1000),
			func(r *http.Request) { r.Header.Set("Authorization", "Bearer "+api.Token) })
		return status, body
	}
	for fill := range byte(3) {
		if status, body := add(fill); status/100 != 2 {
			t.Fatalf("file %d: %d %s", fill, status, body)
		}
	}
	if status, body := add(9); status != http.StatusUnprocessableEntity || !strings.Contains(body, "--file-space-mb") ||
		!strings.Contains(body, "too-large") {
		t.Errorf("more than there is space for: %d %s", status, body)
	}
	if status, body := add(1); status/100 != 2 {
		t.Errorf("a file that is there already: %d %s", status, body)
	}
	files, err := client.Get[wire.Page[wire.File]](context.Background(), api, "/files", nil)
	if err != nil || len(files.Items) != 3 {
		t.Errorf("%d files are kept: %v", len(files.Items), err)
	}
}

// TestLargeFilesAtOnce sends more files at once than are held in memory: they wait for one another,
// and all are taken.
func TestLargeFilesAtOnce(t *testing.T) {
	t.Parallel()
	api := bare(t)
	statuses := make([]int, 6)
	var wait sync.WaitGroup
	for i := range statuses {
		wait.Go(func() {
			data := bytes.Repeat([]byte{byte(i)}, 16<<20)
			statuses[i], _, _ = ask(t, http.MethodPost, fmt.Sprintf("%s/api/v1/files?name=f%d", api.Base, i), data, func(r *http.Request) {
				r.Header.Set("Authorization", "Bearer "+api.Token)
			})
		})
	}
	wait.Wait()
	for i, status := range statuses {
		if status != http.StatusCreated {
			t.Errorf("file %d is answered %d", i, status)
		}
	}
}
