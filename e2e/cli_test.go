package e2e

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/wire"
)

// TestTheWholeJobOnTheCommandLine does the job with the command line alone.
func TestTheWholeJobOnTheCommandLine(t *testing.T) {
	t.Parallel()
	r, api := withDemo(t)
	fleetOf(t, api, 20, time.Second, endpoint.Shares{})

	if out := r.must("status"); !strings.Contains(out, "conflict  media.usb_storage: contractors-no-usb, survey-transfer on 4 devices") {
		t.Errorf("status says\n%s", out)
	}
	if out := r.must("setting", "search", "copy", "to", "usb"); !strings.Contains(strings.Split(out, "\n")[1], "media.usb_storage") {
		t.Errorf("the first setting found is not the storage setting:\n%s", out)
	}
	if out := r.must("import", "../demo/estate"); !strings.Contains(out, "Nothing differs") {
		t.Errorf("an import of what is live says %s", out)
	}

	change := strings.TrimSpace(r.must("change", "new", "Banner of the night watch", "--why", "Ticket 7"))
	file := filepath.Join(t.TempDir(), "edit.yaml")
	text := `rulings:
  - {id: R-night, setting: signin.banner, prefer: on-call-banner, over: leads-banner, reason: always there}
policies:
  - id: lost-and-found
    title: Message for whoever finds a laptop
    kind: configuration
    settings: {screen.lost_message: "Found it? Call +44 1632 960 145"}
    audience: {include: [everyone]}
`
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	if out := r.must("change", "edit", change, file); !strings.Contains(out, "alter policies/lost-and-found") ||
		!strings.Contains(out, "create rulings/R-night") {
		t.Errorf("edit says\n%s", out)
	}
	r.must("change", "edit", change, file) // once more: the edits are altered
	out := r.must("change", "impact", change)
	for _, want := range []string{"216 of 240 devices", "conflict cleared: signin.banner between leads-banner, on-call-banner " +
		"on 6 devices", "not set", "Found it?"} {
		if !strings.Contains(out, want) {
			t.Errorf("the impact lacks %q:\n%s", want, out)
		}
	}
	if out, errOut, status := r.run(
		"",
		"change",
		"publish",
		change,
	); status != 2 || !strings.Contains(errOut, "nothing was published") ||
		!strings.Contains(out, "216 of 240") {
		t.Errorf("publish without --yes: status %d\n%s%s", status, out, errOut)
	}
	r.must("change", "publish", change, "--yes")
	await(t, "LT-0001 has the new message", func() bool {
		page, err := client.Get[wire.DevicePage](context.Background(), api, "/devices/LT-0001", nil)
		if err != nil {
			return false
		}
		for _, d := range page.Deliveries {
			if d.Setting == "screen.lost_message" {
				return d.Status == "applied" && d.Reported != nil && strings.HasPrefix(d.Reported.Text(), "Found it?")
			}
		}
		return false
	})
	if out := r.must("explain", "LT-0001", "screen.lost_message"); !strings.Contains(out, "closest from lost-and-found") {
		t.Errorf("explain says\n%s", out)
	}
	if out := r.must("device", "show", "LT-0001"); !strings.Contains(out, "check-in") {
		t.Errorf("device show says\n%s", out)
	}

	// What is exported resolves the same with no service, and exporting twice gives the same bytes.
	first, second := filepath.Join(t.TempDir(), "a"), filepath.Join(t.TempDir(), "b")
	r.must("export", first)
	r.must("export", second)
	if a, b := folderText(t, first), folderText(t, second); a != b || len(a) == 0 {
		t.Error("two exports differ")
	}
	live := r.must("effective", "--all", "--format", "jsonl", "--reasons")
	folder, errOut, status := runWith(
		t,
		nil,
		"",
		"effective",
		"--estate",
		first,
		"--all",
		"--format",
		"jsonl",
		"--reasons",
		"--date",
		"2026-11-23",
	)
	if status != 0 || live != folder {
		t.Errorf("the service and its export differ (status %d, %s)", status, errOut)
	}
	if _, errOut, status := r.run("", "export", first); status != 1 || !strings.Contains(errOut, "not empty") {
		t.Errorf("export over files: status %d, %s", status, errOut)
	}
	r.stop()
}

func folderText(t *testing.T, folder string) string {
	t.Helper()
	var all strings.Builder
	err := filepath.WalkDir(folder, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(path)
		all.WriteString(d.Name() + "\n" + string(data))
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return all.String()
}

func TestFolderCommandsNeedNoService(t *testing.T) {
	t.Parallel()
	run := func(args ...string) (string, string, int) {
		return runWith(t, []string{"ZRIDGE_CONFIG=/nowhere"}, "", args...)
	}
	for _, c := range []struct {
		args   string
		status int
		want   string // on either stream
	}{
		{"check ../demo/estate --date 2026-11-23", 0, "2 conflicts, 3 problems, 9 lints"},
		{"check --strict ../demo/estate", 3, "conflict  media.usb_storage"},
		{"check", 2, "expected one FOLDER"},
		{"check /nowhere", 1, "no such file"},
		{"check --date soon ../demo/estate", 2, "expected a day"},
		{"check --format xml ../demo/estate", 2, "expected one of text, json"},
		{"effective --estate ../demo/estate", 2, "expected DEVICE… or --all"},
		{"effective --estate ../demo/estate --all LT-0001", 2, "one of the two"},
		{"effective --estate ../demo/estate --all --person ines.okafor", 2, "named devices only"},
		{"effective --estate ../demo/estate LT-9999 --format jsonl", 1, `found "LT-9999"`},
		{"effective --estate ../demo/estate LT-0001 --person nobody", 1, `found "nobody"`},
		{"explain --estate ../demo/estate LT-0110 screen.lock_after_minutes --date 2026-11-23", 0, "exception from EX-1"},
		{"explain --estate ../demo/estate LT-0110 screen.lock_after_minutes --date 2026-12-05", 0, "strictest from house-rules"},
		{"explain --estate ../demo/estate LT-0110 no.such", 1, "no.such"},
		{"conflicts --estate ../demo/estate", 0, "2 conflicts"},
		{"conflicts --estate ../demo/estate --strict", 3, "2 conflicts"},
		{"toast", 2, `Unknown command "toast"`},
		{"policy --help nonsense", 2, "nonsense"},
		{"change toast", 2, `Unknown command "toast"`},
		{"status", 2, "sign-in"},
		{"serve extra", 2, "expected no arguments"},
		{"sign-in not-an-address --name x", 2, "expected an address"},
	} {
		out, errOut, status := run(strings.Fields(c.args)...)
		if status != c.status || !strings.Contains(out+errOut, c.want) {
			t.Errorf("zridge %s: status %d, expected %d with %q\n%s%s", c.args, status, c.status, c.want, out, errOut)
		}
		if strings.Contains(out+errOut, "goroutine ") {
			t.Errorf("zridge %s shows a stack", c.args)
		}
	}
	out, _, _ := run("effective", "--estate", "../demo/estate", "LT-0002", "LT-0001", "--format", "jsonl", "--date", "2026-11-23")
	lines := strings.Split(strings.TrimSpace(out), "\n")
	var first struct{ Device string }
	if err := json.Unmarshal([]byte(lines[0]), &first); err != nil || len(lines) != 2 || first.Device != "LT-0001" {
		t.Errorf("devices do not come in the order of their ids: %v %s", err, out)
	}
	for _, shell := range []string{"bash", "zsh", "fish"} {
		if out, errOut, status := run("completion", shell); status != 0 || len(out) < 60 {
			t.Errorf("completion %s: status %d %s", shell, status, errOut)
		}
	}
}
