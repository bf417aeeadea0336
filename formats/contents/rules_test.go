// This file reads rule sets, and files that are made to harm.

package contents_test

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/contents"
)

const goodRules = `{"format": "zenith-ridge/application-rules/1", "id": "{6F9619FF-8B86-D011-B42D-00C04FC964FF}", "rules": [%s]}`

func TestRuleSets(t *testing.T) {
	o := contents.Options{Expect: setting.RulesFile}
	r := taken(
		t,
		"rules.json",
		fmt.Appendf(
			nil,
			goodRules,
			`{"id": "a", "action": "allow", "path": "/opt/larkfell/**"}, {"id": "b", "action": "deny", "sha256": "`+strings.Repeat("AB", 32)+`"}`,
		),
		o,
	)
	if r.Rules.ID != "6f9619ff-8b86-d011-b42d-00c04fc964ff" || r.Rules.Otherwise != "deny" || len(r.Rules.Rules) != 2 ||
		r.Rules.Rules[1].SHA256 != strings.Repeat("ab", 32) {
		t.Errorf("the rule set is %+v", r.Rules)
	}
	for id := range map[string]bool{"6f9619ff-8b86-d011-b42d-00c04fc964ff": true, " {6F9619ff-8B86-D011-B42D-00C04FC964FF} ": true} {
		text := strings.Replace(
			fmt.Sprintf(goodRules, `{"id": "a", "action": "allow", "path": "/opt/x"}`),
			"{6F9619FF-8B86-D011-B42D-00C04FC964FF}",
			id,
			1,
		)
		if r := taken(t, "rules.json", []byte(text), o); r.Rules.ID != "6f9619ff-8b86-d011-b42d-00c04fc964ff" {
			t.Errorf("the id %q was read as %s", id, r.Rules.ID)
		}
	}
	if r := taken(
		t,
		"rules.json",
		fmt.Appendf(
			nil,
			goodRules,
			`{"id": "a", "action": "allow", "path": "/home/**"}, {"id": "c", "action": "deny", "path": "/x"}, {"id": "b", "action": "deny", "path": "/x"}`,
		),
		o,
	); len(r.Warnings) != 2 {
		t.Errorf("a broad rule and a repeated one: %v", r.Warnings)
	}
	for reason, text := range map[string]string{
		"allow and deny the same": fmt.Sprintf(goodRules,
			`{"id": "a", "action": "allow", "path": "/x"}, {"id": "b", "action": "deny", "path": "/x"}`),
		"an id of its own": fmt.Sprintf(goodRules,
			`{"id": "a", "action": "allow", "path": "/x"}, {"id": "a", "action": "deny", "path": "/y"}`),
		"/file/rules/0":        fmt.Sprintf(goodRules, `{"id": "a", "action": "allow"}`),
		"/file/rules/0/action": fmt.Sprintf(goodRules, `{"id": "a", "action": "perhaps", "path": "/x"}`),
		"twice in one object":  fmt.Sprintf(goodRules, `{"id": "a", "action": "allow", "action": "deny", "path": "/x"}`),
		"broken at line":       fmt.Sprintf(goodRules, `{"id": "a", `),
		"more than 32 levels":  strings.Repeat(`{"a":`, 40) + "1" + strings.Repeat("}", 40),
		"bytes of rules":       fmt.Sprintf(goodRules, strings.Repeat(" ", 9<<20)),
		"/file/id": strings.Replace(fmt.Sprintf(goodRules, `{"id": "a", "action": "allow", "path": "/x"}`),
			"{6F9619FF-", "{{6F9619FF-", 1),
		"no JSON object": "[1]",
		"not UTF-8":      "{\"format\": \"\xff\"}",
		"/file: additional properties": strings.Replace(fmt.Sprintf(goodRules, `{"id": "a", "action": "allow", "path": "/x"}`),
			`"rules"`, `"note": 1, "rules"`, 1),
	} {
		_, err := contents.Read("rules.json", []byte(text), o)
		if err == nil || !strings.Contains(fmt.Sprint(err), strings.TrimPrefix(strings.TrimPrefix(reason, "/file: "), "")) {
			t.Errorf("%.60s …: %v, expected %q", text, err, reason)
		}
	}
	var schema map[string]any
	if err := json.Unmarshal(contents.RulesSchema, &schema); err != nil || schema["$schema"] == "" {
		t.Errorf("the schema: %v", err)
	}
	if published := file(t, "..", "..", "docs", "application-rules.schema.json"); !bytes.Equal(published, contents.RulesSchema) {
		t.Error("docs/application-rules.schema.json is not the schema that is used: run make generate")
	}
}

// TestHostileFiles feeds what is made to hurt: bombs, loops, lies about sizes, nesting.
func TestHostileFiles(t *testing.T) {
	o := contents.Options{Expect: setting.ApplicationFile}
	refusedWith(
		t,
		"bomb.zip",
		zipOf(t, map[string][]byte{"A.app/Contents/Info.plist": bytes.Repeat([]byte("<"), 64<<20)}),
		o,
		"unpacks to more than 1024 KiB",
	)
	refusedWith(
		t,
		"zeros.zip",
		zipOf(
			t,
			map[string][]byte{
				"A.app/Contents/Info.plist":     file(t, "testdata", "helpline.xml.plist"),
				"A.app/Contents/MacOS/helpline": make([]byte, 300<<20),
			},
		),
		o,
		"unpacks to more than 300 MiB",
	)
	many := map[string][]byte{}
	for i := range 50_001 {
		many[fmt.Sprintf("f%d", i)] = nil
	}
	refusedWith(t, "many.zip", zipOf(t, many), o, "50001 entries")
	laughs := `<?xml version="1.0"?><!DOCTYPE plist [<!ENTITY a "ha"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;&a;&a;">]><plist><dict><key>CFBundleIdentifier</key><string>&b;</string></dict></plist>`
	refusedWith(t, "laughs.plist", []byte(laughs), o, "entities of its own")
	refusedWith(
		t,
		"outside.plist",
		[]byte(
			`<?xml version="1.0"?><!DOCTYPE plist SYSTEM "file:///etc/passwd" [<!ENTITY x SYSTEM "file:///etc/passwd">]><plist><string>&x;</string></plist>`,
		),
		o,
		"entities of its own",
	)
	refusedWith(
		t,
		"deep.plist",
		[]byte(`<?xml version="1.0"?><plist>`+strings.Repeat("<array>", 5000)+strings.Repeat("</array>", 5000)+"</plist>"),
		o,
		"nested more than 64 deep",
	)
	refusedWith(
		t,
		"huge.plist",
		append([]byte(`<?xml version="1.0"?><plist><string>`), bytes.Repeat([]byte("a"), 2<<20)...),
		o,
		"a property list of",
	)
	refusedWith(t, "page.html.plist", []byte(`<?xml version="1.0"?><html><body/></html>`), o, `the root "html"`)
	refusedWith(
		t,
		"no-id.plist",
		[]byte(`<?xml version="1.0"?><plist><dict><key>CFBundleName</key><string>x</string></dict></plist>`),
		o,
		"no identifier",
	)
	refusedWith(
		t,
		"braces.plist",
		[]byte(`<?xml version="1.0"?><plist><dict><key>CFBundleIdentifier</key><string>{x}</string></dict></plist>`),
		o,
		`the identifier "{x}"`,
	)
	loop := file(t, "testdata", "helpline.binary.plist")
	for i := range len(loop) - 40 { // whatever byte is turned over, it is read or refused, and never crashes
		turned := bytes.Clone(loop)
		turned[8+i] ^= 0xff
		contents.Read("loop.plist", turned, o)
	}
	exe := file(t, "testdata", "helpline.exe")
	for i := 0; i < len(exe); i += 3 {
		turned := bytes.Clone(exe)
		turned[i] ^= 0x81
		contents.Read("turned.exe", turned, o)
	}
	refusedWith(t, "cut.exe", exe[:600], o, "no version resource")
	refusedWith(t, "stub.exe", []byte("MZ"), o, "damaged or of another kind")

	deb := debianPackage(t, "gzip")
	refusedWith(t, "cut.deb", deb[:100], o, "Debian package")
	refusedWith(t, "no.deb", []byte("!<arch>\nhello"), o, "no control member")
	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	w.Write(make([]byte, 64<<20)) // zeros: an archive that never begins
	w.Close()
	refusedWith(t, "bomb.deb", arOf(map[string][]byte{"control.tar.gz": packed.Bytes()}), o, "no control file")
	dictionary := append([]byte{0xfd, '7', 'z', 'X', 'Z', 0, 0, 4, 0xe6, 0xd6, 0xb4, 0x46}, 2, 0, 0x21, 1, 40, 0, 0, 0)
	refusedWith(t, "memory.deb", arOf(map[string][]byte{"control.tar.xz": dictionary}), o, "more than 64 MiB to unpack")
	refusedWith(t, "odd.deb", arOf(map[string][]byte{"control.tar.lz": {1}}), o, "packed as")
	refusedWith(t, "link.desktop", []byte("[Desktop Entry]\nType=Link\nURL=https://larkfell.example\n"), o, "of the type")
	refusedWith(t, "two.desktop", []byte("[Desktop Entry]\nType=Application\nExec=a\nExec=b\n"), o, "twice")
}

func arOf(members map[string][]byte) []byte {
	var b bytes.Buffer
	b.WriteString("!<arch>\n")
	add := func(name string, data []byte) {
		fmt.Fprintf(&b, "%-16s%-12d%-6d%-6d%-8s%-10d`\n", name, 0, 0, 0, "100644", len(data))
		b.Write(data)
		if len(data)%2 == 1 {
			b.WriteByte('\n')
		}
	}
	add("debian-binary", []byte("2.0\n"))
	for name, data := range members {
		add(name, data)
	}
	return b.Bytes()
}
