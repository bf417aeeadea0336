// This file reads Windows executables (PE format): their version resource, and who signed them.

package contents

import (
	"bytes"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/x509"
	"crypto/x509/pkix"
	"debug/pe"
	"encoding/asn1"
	"encoding/binary"
	"hash"
	"path"
	"strings"
	"unicode/utf16"

	"github.com/smallstep/pkcs7"
)

const (
	resourceSection  = 2  // of the data directory: resources
	securitySection  = 4  // the certificate table
	versionResource  = 16 // the type of a version resource
	maxVersionBlocks = 2000
)

func readExecutable(data []byte) (*Reading, error) {
	const want = "a Windows executable"
	f, err := pe.NewFile(bytes.NewReader(data))
	if err != nil {
		return nil, refuse("an executable that is damaged or of another kind", want)
	}
	defer f.Close()
	var directory []pe.DataDirectory
	checksum := int64(0)
	optional := int64(binary.LittleEndian.Uint32(data[0x3c:])) + 24 // where the optional header starts, behind signature and file header
	switch h := f.OptionalHeader.(type) {
	case *pe.OptionalHeader32:
		directory, checksum = h.DataDirectory[:min(16, h.NumberOfRvaAndSizes)], optional+64
	case *pe.OptionalHeader64:
		directory, checksum = h.DataDirectory[:min(16, h.NumberOfRvaAndSizes)], optional+64
	default:
		return nil, refuse("an object file", want)
	}
	facts := versionFacts(f, directory)
	a := &Application{
		Name: firstOf(facts["FileDescription"], facts["ProductName"]), Identifier: firstOf(facts["OriginalFilename"], facts["InternalName"]),
		Version: firstOf(facts["ProductVersion"], facts["FileVersion"]), Signed: "none", Platform: "windows", Source: "a Windows executable",
	}
	a.Identifier = path.Base(strings.ReplaceAll(a.Identifier, "\\", "/"))
	if a.Identifier == "." {
		return nil, refuse("an executable with no version resource, which names the program", "one that says its original file name")
	}
	if len(directory) > securitySection && directory[securitySection].Size > 0 {
		a.Signer, a.Signed = peSigner(data, directory[securitySection], checksum, directoryEntry(f, checksum))
	}
	var warnings []string
	switch a.Signed {
	case "none":
		warnings = append(warnings, "it is not signed: a permission by name alone could be claimed by another program")
	case "unverified":
		warnings = append(warnings, "its signature does not fit the file: it was altered after signing, or the signature is damaged")
	}
	return application(a, "application/x-dosexec", warnings...)
}

func firstOf(texts ...string) string {
	for _, t := range texts {
		if t = strings.TrimSpace(t); t != "" {
			return t
		}
	}
	return ""
}

// directoryEntry is the place in the file of the data directory's entry for the certificate table.
func directoryEntry(f *pe.File, checksum int64) int64 {
	if _, wide := f.OptionalHeader.(*pe.OptionalHeader64); wide {
		return checksum - 64 + 112 + 8*securitySection
	}
	return checksum - 64 + 96 + 8*securitySection
}

// versionFacts gives the texts of the version resource.
func versionFacts(f *pe.File, directory []pe.DataDirectory) map[string]string {
	facts := map[string]string{}
	if len(directory) <= resourceSection || directory[resourceSection].Size == 0 {
		return facts
	}
	base := directory[resourceSection].VirtualAddress
	for _, s := range f.Sections {
		if base < s.VirtualAddress || base >= s.VirtualAddress+max(s.VirtualSize, s.Size) {
			continue
		}
		section, err := s.Data()
		if err != nil || uint32(len(section)) <= base-s.VirtualAddress {
			return facts
		}
		tree := section[base-s.VirtualAddress:]
		// Three levels of directories: type, name, language.
		level := resourceEntry(tree, 0, versionResource)
		level = resourceEntry(tree, level, -1)
		leaf := resourceEntry(tree, level, -1)
		if leaf < 0 || leaf+8 > len(tree) {
			return facts
		}
		address, size := binary.LittleEndian.Uint32(tree[leaf:]), binary.LittleEndian.Uint32(tree[leaf+4:])
		start := int64(address) - int64(s.VirtualAddress)
		if start < 0 || start+int64(size) > int64(len(section)) {
			return facts
		}
		blocks := maxVersionBlocks
		readVersionBlocks(section[start:start+int64(size)], facts, &blocks, 0)
	}
	return facts
}

// resourceEntry gives where the entry with an id leads from the directory at a place; -1 for the
// first entry, or for none.
func resourceEntry(tree []byte, at, id int) int {
	if at < 0 || at+16 > len(tree) {
		return -1
	}
	n := int(binary.LittleEndian.Uint16(tree[at+12:])) + int(binary.LittleEndian.Uint16(tree[at+14:]))
	for i := range n {
		entry := at + 16 + 8*i
		if entry+8 > len(tree) {
			return -1
		}
		if id < 0 || binary.LittleEndian.Uint32(tree[entry:]) == uint32(id) {
			return int(binary.LittleEndian.Uint32(tree[entry+4:]) &^ (1 << 31))
		}
	}
	return -1
}

// readVersionBlocks walks the blocks of a version resource: each has its length, the length of its
// value, whether that is text, a key, and children. Keys with a text are facts.
func readVersionBlocks(data []byte, facts map[string]string, left *int, depth int) {
	for len(data) >= 6 && *left > 0 && depth < 8 {
		*left--
		length, valueLength, isText := int(binary.LittleEndian.Uint16(data)), int(binary.LittleEndian.Uint16(data[2:])),
			binary.LittleEndian.Uint16(data[4:]) == 1
		if length < 6 || length > len(data) {
			return
		}
		block := data[:length]
		key, after := wideText(block[6:])
		body := block[min(len(block), (6+after+3)&^3):]
		valueBytes := valueLength
		if isText {
			valueBytes *= 2
		}
		valueBytes = min(valueBytes, len(body))
		if isText && valueLength > 0 {
			text, _ := wideText(body[:valueBytes])
			if _, there := facts[key]; !there && len(text) <= 500 {
				facts[key] = text
			}
		}
		readVersionBlocks(body[min(len(body), (valueBytes+3)&^3):], facts, left, depth+1)
		data = data[min(len(data), (length+3)&^3):]
	}
}

// wideText reads UTF-16 up to its end mark, and says how many bytes that took.
func wideText(data []byte) (text string, length int) {
	var units []uint16
	for i := 0; i+1 < len(data); i += 2 {
		unit := binary.LittleEndian.Uint16(data[i:])
		if unit == 0 {
			return string(utf16.Decode(units)), i + 2
		}
		units = append(units, unit)
	}
	return string(utf16.Decode(units)), len(data)
}

// indirectData is what the signature signs: the hash of the file.
type indirectData struct {
	Data   asn1.RawValue
	Digest struct {
		Algorithm pkix.AlgorithmIdentifier
		Digest    []byte
	}
}

// peSigner gives the name of the signer of the first signature in the certificate table, and
// whether the signature fits the file. It does not judge whether the signer is to be trusted: that
// is for the one who reads the name.
func peSigner(data []byte, table pe.DataDirectory, checksum, entry int64) (signer, state string) {
	start, size := int64(table.VirtualAddress), int64(table.Size) // in this table alone the address is a place in the file
	if size < 8 || start+size > int64(len(data)) {
		return "", "unverified"
	}
	length := int64(binary.LittleEndian.Uint32(data[start:]))
	if length < 8 || length > size || binary.LittleEndian.Uint16(data[start+6:]) != 2 {
		return "", "unverified"
	}
	signed, err := pkcs7.Parse(data[start+8 : start+length])
	if err != nil {
		return "", "unverified"
	}
	if c := signed.GetOnlySigner(); c != nil {
		signer = signerName(c)
	}
	var content indirectData
	if _, err := asn1.Unmarshal(wrapped(signed.Content), &content); err != nil || signed.Verify() != nil {
		return signer, "unverified"
	}
	h := hashOf(content.Digest.Algorithm.Algorithm)
	if h == nil || checksum+4 > entry || entry+8 > start {
		return signer, "unverified"
	}
	// The hash leaves out the checksum, the table's entry in the directory, and the table itself.
	h.Write(data[:checksum])
	h.Write(data[checksum+4 : entry])
	h.Write(data[entry+8 : start])
	h.Write(data[start+size:])
	if !bytes.Equal(h.Sum(nil), content.Digest.Digest) {
		return signer, "unverified"
	}
	return signer, "verified"
}

// wrapped gives signed content as the DER sequence that it is, whether or not the parser left its
// header off.
func wrapped(content []byte) []byte {
	var whole asn1.RawValue
	if rest, err := asn1.Unmarshal(content, &whole); err == nil && len(rest) == 0 && whole.Tag == asn1.TagSequence {
		return content
	}
	out, _ := asn1.Marshal(asn1.RawValue{Tag: asn1.TagSequence, IsCompound: true, Bytes: content})
	return out
}

func hashOf(algorithm asn1.ObjectIdentifier) hash.Hash {
	for _, known := range []struct {
		id   asn1.ObjectIdentifier
		make func() hash.Hash
	}{
		{asn1.ObjectIdentifier{1, 3, 14, 3, 2, 26}, sha1.New},
		{asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 2, 1}, sha256.New},
		{asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 2, 2}, sha512.New384},
		{asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 2, 3}, sha512.New},
	} {
		if known.id.Equal(algorithm) {
			return known.make()
		}
	}
	return nil
}

func signerName(c *x509.Certificate) string {
	return firstOf(strings.Join(c.Subject.Organization, ", "), c.Subject.CommonName, c.Subject.String())
}
