package files_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/dictionary"
	"zenithridge.example/zridge/formats/files"
)

const rulesFile = `{"format": "zenith-ridge/application-rules/1", "id": "6F9619FF-8B86-D011-B42D-00C04FC964FF", "rules": [{"id": "a", "action": "allow", "path": "/opt/x"}]}`

// writeAll writes files below a new folder.
func writeAll(t *testing.T, all map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	for name, text := range all {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

const heldEstate = `
units: [{id: larkfell}]
policies:
  - id: p
    kind: security
    settings:
      applications.control_rules: {file: rules/survey rules.json}
      signin.script_in: {value: {file: in.sh, name: "Sign-in of the crew.sh"}, lock: true}
      network.firewall.rules:
        - {name: web, direction: in, action: allow, ports: "80, 8000-8010", remote: [10.2.0.0/16]}
        - {name: ssh, direction: in, action: block}
      media.printers: []
    audience: {include: [everyone]}
`

// TestTablesAndFilesInFolders reads a folder with both, writes it, reads that, and finds the same;
// the rule set, though it ends in .json, is no file of the estate.
func TestTablesAndFilesInFolders(t *testing.T) {
	dir := writeAll(t, map[string]string{"estate.yaml": heldEstate, "rules/survey rules.json": rulesFile, "in.sh": "#!/bin/sh\n"})
	s, held, err := files.ReadWithFiles(dir, dictionary.Shipped())
	if err != nil {
		t.Fatal(err)
	}
	p := &s.Policies[0]
	rules := p.Entry("applications.control_rules").Value.File()
	if rules.Name != "survey rules.json" || rules.Size != int64(len(rulesFile)) || len(held) != 2 || !setting.IsSHA256(rules.SHA256) {
		t.Errorf("the rule file is %+v of %v", rules, held)
	}
	if rows := p.Entry("network.firewall.rules").Value.Rows(); len(rows) != 2 || rows[0]["remote"].Items()[0] != "10.2.0.0/16" {
		t.Errorf("the table is %v", rows)
	}
	content := func(sha256 string) ([]byte, error) { return os.ReadFile(held[sha256]) }
	out := filepath.Join(t.TempDir(), "out")
	if err := files.Write(out, s, content); err != nil {
		t.Fatal(err)
	}
	again, heldAgain, err := files.ReadWithFiles(out, dictionary.Shipped())
	if err != nil {
		t.Fatal(err)
	}
	a, _ := files.EncodeJSON(s.Policies[0])
	b, _ := files.EncodeJSON(again.Policies[0])
	if string(a) != string(b) || len(heldAgain) != 2 {
		t.Errorf("written and read again:\n%s\n%s", a, b)
	}
	twice := filepath.Join(t.TempDir(), "twice")
	if err := files.Write(twice, again, func(sha256 string) ([]byte, error) { return os.ReadFile(heldAgain[sha256]) }); err != nil {
		t.Fatal(err)
	}
	if x, y := tree(t, out), tree(t, twice); x != y {
		t.Errorf("two exports differ:\n%s\n%s", x, y)
	}
	if err := files.Write(
		filepath.Join(t.TempDir(), "no"),
		s,
		func(string) ([]byte, error) { return nil, fmt.Errorf("gone") },
	); err == nil ||
		!strings.Contains(err.Error(), "gone") {
		t.Errorf("an export without a file's bytes: %v", err)
	}
}

func tree(t *testing.T, dir string) string {
	t.Helper()
	var b strings.Builder
	err := filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(path)
		rel, _ := filepath.Rel(dir, path)
		fmt.Fprintf(&b, "%s\n%s\n", rel, data)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// TestWrongFilesInFolders names files wrongly, one at a time; each fault has its line.
func TestWrongFilesInFolders(t *testing.T) {
	outside := filepath.Join(t.TempDir(), "outside.sh")
	if err := os.WriteFile(outside, []byte("x"), 0o644); err != nil {
		t.Fatal(err)
	}
	estateWith := func(entry string) string {
		return "units: [{id: larkfell}]\npolicies:\n  - id: p\n    kind: security\n    audience: {}\n    settings:\n      " + entry + "\n"
	}
	for want, entry := range map[string]string{
		"estate.yaml:7:31 unknown-file":     "signin.script_in: {file: not-there.sh}",
		"estate.yaml:7:31  unknown-file":    "signin.script_in: {file: ../outside.sh}",
		"estate.yaml:7:31   unknown-file":   "signin.script_in: {file: /etc/passwd}",
		"estate.yaml:7:31    unknown-file":  "signin.script_in: {file: link.sh}",
		"estate.yaml:7:31     unknown-file": "signin.script_in: {file: folder}",
		"estate.yaml:7:42 unknown-field":    "signin.script_in: {file: in.sh, size: 3}",
		"estate.yaml:7:25 wrong-type":       "signin.script_in: in.sh",
		"estate.yaml:7:35 wrong-content":    "applications.control_rules: {file: in.sh}",
		"estate.yaml:7:29 wrong-content":    "trust.machine_roots: [{certificate: {file: in.sh}}]",
		"estate.yaml:7:21 wrong-type":       "media.camera: {file: in.sh}",
		"estate.yaml:7:43 unknown-field":    "media.printers: [{name: a, address: ipp://x, colour: blue}]",
		"estate.yaml:7:24 missing-field":    "media.printers: [{name: a}]",
	} {
		dir := writeAll(t, map[string]string{"estate.yaml": estateWith(entry), "in.sh": "#!/bin/sh\n", "folder/x.txt": "x"})
		if err := os.Symlink(outside, filepath.Join(dir, "link.sh")); err != nil {
			t.Fatal(err)
		}
		got := faultsOf(t, dir)
		_, code, _ := strings.Cut(strings.Join(strings.Fields(want), " "), " ")
		found := false
		for _, f := range got {
			found = found || strings.HasSuffix(f, " "+code) && strings.HasPrefix(f, "estate.yaml:7:")
		}
		if !found {
			t.Errorf("%s gives %q, expected %s on line 7", entry, got, code)
		}
	}
}
