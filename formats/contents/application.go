// This file reads what names an application and its signer: property lists and zipped bundles,
// .desktop entries.

package contents

import (
	"archive/zip"
	"bufio"
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"path"
	"regexp"
	"strings"
	"unicode/utf8"

	"howett.net/plist"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
)

// Application is what a file says of an application. What it does not say is empty.
type Application struct {
	Name       string `json:"name"`
	Identifier string `json:"identifier" doc:"As the platform knows the application"`
	Version    string `json:"version,omitempty"`
	Signer     string `json:"signer,omitempty" doc:"Who signed it, as the signature says"`
	Signed     string `json:"signed" doc:"verified: the signature fits the file; unknown: this kind of file does not say" enum:"verified,unverified,none,unknown"`
	Platform   string `json:"platform" enum:"linux,windows,macos"`
	Source     string `json:"source" doc:"What kind of file it was read from"`
}

// Bounds of what is unpacked.
const (
	maxPropertyList = 1 << 20
	maxZipEntries   = 50_000
	maxDesktopEntry = 256 << 10
	maxXMLDepth     = 64
)

// identifierPattern is what identifiers of applications look like on all platforms.
var identifierPattern = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._+-]{0,254}$`)

func application(a *Application, mediaType string, warnings ...string) (*Reading, error) {
	if a.Name == "" {
		a.Name = a.Identifier
	}
	if !identifierPattern.MatchString(a.Identifier) {
		found := "no identifier"
		if a.Identifier != "" {
			found = "the identifier " + problem.Quote(a.Identifier)
		}
		return nil, refuse(found+" in "+a.Source, "an application's identifier of letters, digits and . _ + -")
	}
	return &Reading{Content: setting.ApplicationFile, MediaType: mediaType, Application: a, Warnings: warnings}, nil
}

// propertyList has the keys that name an application in its bundle's property list.
type propertyList struct {
	Identifier string `plist:"CFBundleIdentifier"`
	Name       string `plist:"CFBundleName"`
	Shown      string `plist:"CFBundleDisplayName"`
	Version    string `plist:"CFBundleShortVersionString"`
	Build      string `plist:"CFBundleVersion"`
	Executable string `plist:"CFBundleExecutable"`
}

func parsePropertyList(data []byte) (*propertyList, error) {
	if len(data) > maxPropertyList {
		return nil, refuse(fmt.Sprintf("a property list of %d bytes", len(data)), "at most 1 MiB")
	}
	if !bytes.HasPrefix(data, []byte("bplist0")) {
		if err := checkXML(data); err != nil {
			return nil, err
		}
	}
	var list propertyList
	if _, err := plist.Unmarshal(data, &list); err != nil {
		return nil, refuse("a property list that can't be read", "the property list of an application bundle, XML or binary")
	}
	return &list, nil
}

// checkXML refuses what no property list has: entities of its own, deep nesting, other elements.
func checkXML(data []byte) error {
	if !utf8.Valid(data) {
		return refuse("XML that is not UTF-8", "a property list in UTF-8")
	}
	d := xml.NewDecoder(bytes.NewReader(data))
	depth := 0
	for {
		token, err := d.Token()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			line, _ := d.InputPos()
			return refuse(fmt.Sprintf("XML that is broken at line %d", line), "a property list")
		}
		switch t := token.(type) {
		case xml.Directive:
			if bytes.Contains(t, []byte("ENTITY")) || bytes.ContainsRune(t, '[') {
				return refuse("XML with entities of its own", "a property list with none")
			}
		case xml.StartElement:
			if depth == 0 && t.Name.Local != "plist" {
				return refuse("XML with the root "+problem.Quote(t.Name.Local), "a property list")
			}
			if depth++; depth > maxXMLDepth {
				return refuse("XML nested more than 64 deep", "a property list")
			}
		case xml.EndElement:
			depth--
		}
	}
}

func readPropertyList(data []byte, o Options) (*Reading, error) {
	list, err := parsePropertyList(data)
	if err != nil {
		if o.Expect != setting.ApplicationFile && bytes.HasPrefix(bytes.TrimSpace(data), []byte("<?xml")) &&
			!bytes.Contains(data, []byte("<plist")) {
			return other("application/xml"), nil
		}
		return nil, err
	}
	media := "application/xml"
	if bytes.HasPrefix(data, []byte("bplist0")) {
		media = "application/octet-stream"
	}
	return application(
		list.application("unknown", ""),
		media,
		"a property list does not say who signed the application: add the zipped application itself to read that",
	)
}

func (l *propertyList) application(signed, signer string) *Application {
	a := &Application{
		Name:       l.Shown,
		Identifier: strings.TrimSpace(l.Identifier),
		Version:    l.Version,
		Signer:     signer,
		Signed:     signed,
		Platform:   "macos",
		Source:     "a property list",
	}
	if a.Name == "" {
		a.Name = l.Name
	}
	if a.Version == "" {
		a.Version = l.Build
	}
	return a
}

// readBundle reads a zipped application bundle. Only its directory, its property list and its
// program are looked at, each within bounds.
func readBundle(data []byte, o Options) (*Reading, error) {
	archive, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, refuse("a zip archive that can't be read", expected(o.Expect))
	}
	if len(archive.File) > maxZipEntries {
		return nil, refuse(fmt.Sprintf("a zip archive with %d entries", len(archive.File)), "at most 50,000")
	}
	if err := checkExpansion(archive, len(data)); err != nil {
		return nil, err
	}
	lists := bundleLists(archive)
	if len(lists) == 0 {
		if o.Expect == setting.ApplicationFile {
			return nil, refuse("a zip archive with no application bundle in it", "one with NAME.app/Contents/Info.plist")
		}
		return other("application/zip"), nil
	}
	if len(lists) > 1 {
		return nil, refuse(fmt.Sprintf("a zip archive with %d applications side by side", len(lists)), "one application")
	}
	text, err := unpack(lists[0], maxPropertyList)
	if err != nil {
		return nil, err
	}
	list, err := parsePropertyList(text)
	if err != nil {
		return nil, err
	}
	signature := programSignature(archive, path.Dir(lists[0].Name), list.Executable)
	a := list.application(signature.state, signature.signer)
	a.Source = "an application bundle"
	var warnings []string
	if signature.identifier != "" && signature.identifier != a.Identifier {
		warnings = append(warnings, fmt.Sprintf("the program is signed as %s, the property "+
			"list says %s", signature.identifier, a.Identifier))
	}
	if signature.signer == "" {
		warnings = append(warnings, "nobody is named as its signer: a permission by identifier alone could be claimed by another program")
	}
	return application(a, "application/zip", warnings...)
}

// checkExpansion refuses an archive that says of itself that it unpacks to far more than programs
// do. One that lies is stopped while it is unpacked.
func checkExpansion(archive *zip.Reader, size int) error {
	const most, large = 100, 256 << 20
	var unpacked uint64
	for _, f := range archive.File {
		if unpacked += f.UncompressedSize64; unpacked > large && unpacked/most > uint64(size) {
			return refuse(
				fmt.Sprintf("a zip archive of %d KiB that unpacks to more than %d MiB", size>>10, unpacked>>20),
				"an application bundle as its maker packed it",
			)
		}
	}
	return nil
}

// bundleLists finds the property lists of the outermost bundles.
func bundleLists(archive *zip.Reader) (found []*zip.File) {
	least := 1 << 30
	for _, f := range archive.File {
		name := strings.TrimPrefix(path.Clean("/"+strings.ReplaceAll(f.Name, "\\", "/")), "/")
		parts := strings.Split(name, "/")
		if n := len(parts); n >= 3 && parts[n-1] == "Info.plist" && parts[n-2] == "Contents" && strings.HasSuffix(parts[n-3], ".app") {
			if n < least {
				least, found = n, nil
			}
			if n == least {
				found = append(found, f)
			}
		}
	}
	return found
}

// unpack gives an entry's bytes, and refuses one that is larger, whatever the archive says of its
// size.
func unpack(f *zip.File, most int64) ([]byte, error) {
	tooLarge := refuse(fmt.Sprintf("an entry that unpacks to more than %d KiB", most>>10), "an application bundle as its maker packed it")
	if f.UncompressedSize64 > uint64(most) {
		return nil, tooLarge
	}
	r, err := f.Open()
	if err != nil {
		return nil, refuse("a zip archive with an entry that can't be read", "a zip archive as it was made")
	}
	defer r.Close()
	data, err := io.ReadAll(io.LimitReader(r, most+1))
	switch {
	case int64(len(data)) > most:
		return nil, tooLarge
	case err != nil:
		return nil, refuse("a zip archive with an entry that can't be read", "a zip archive as it was made")
	}
	return data, nil
}

// readDesktopEntry reads a .desktop file (Desktop Entry Specification 1.5). Its identifier is the
// program that it starts.
func readDesktopEntry(data []byte) (*Reading, error) {
	if len(data) > maxDesktopEntry {
		return nil, refuse(fmt.Sprintf("a .desktop entry of %d bytes", len(data)), "at most 256 KiB")
	}
	if !utf8.Valid(data) {
		return nil, refuse("bytes that are not UTF-8", "a .desktop entry in UTF-8")
	}
	entry := map[string]string{}
	group := ""
	lines := bufio.NewScanner(bytes.NewReader(data))
	lines.Buffer(nil, maxDesktopEntry)
	for lines.Scan() {
		line := strings.TrimSpace(lines.Text())
		if strings.HasPrefix(line, "[") && strings.HasSuffix(line, "]") {
			group = line
			continue
		}
		key, value, found := strings.Cut(line, "=")
		if !found || group != "[Desktop Entry]" || strings.HasPrefix(line, "#") {
			continue
		}
		key = strings.TrimSpace(key)
		if _, twice := entry[key]; twice {
			return nil, refuse("the key "+problem.Quote(key)+" twice in a .desktop entry", "each key once")
		}
		entry[key] = strings.TrimSpace(value)
	}
	if entry["Type"] != "Application" {
		return nil, refuse("a .desktop entry of the type "+problem.Quote(entry["Type"]), "one of the type Application")
	}
	program := ""
	for _, word := range strings.Fields(strings.ReplaceAll(entry["Exec"], `"`, "")) {
		if word != "env" && !strings.Contains(word, "=") {
			program = path.Base(word)
			break
		}
	}
	return application(
		&Application{
			Name:       entry["Name"],
			Identifier: program,
			Version:    entry["X-AppVersion"],
			Signed:     "unknown",
			Platform:   "linux",
			Source:     "a .desktop entry",
		},
		"application/x-desktop",
		"a .desktop entry is not signed and says no version: the package that brings it says more",
	)
}
