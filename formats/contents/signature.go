// This file reads the code signature of a macOS program (Mach-O): what it is signed as, and by
// which team.

package contents

import (
	"archive/zip"
	"bytes"
	"debug/macho"
	"encoding/binary"
	"path"
)

const (
	maxProgram        = 48 << 20 // bytes of a program, unpacked
	loadCodeSignature = 0x1d
	magicSuperBlob    = 0xfade0cc0
	magicDirectory    = 0xfade0c02
	slotDirectory     = 0
	slotCMS           = 0x10000
	teamSince         = 0x20200 // the version of the directory that first names a team
	adHoc             = 0x2     // the flag of a directory that nobody signed
)

// codeSignature is what a program's signature says. The hashes are not compared with the program:
// state is `unverified` at best.
type codeSignature struct {
	identifier, signer, state string
}

// programSignature reads the signature of the program of a bundle. A program that is absent or too
// large says nothing.
func programSignature(archive *zip.Reader, contents, executable string) codeSignature {
	unknown := codeSignature{state: "unknown"}
	if executable == "" || path.Base(executable) != executable {
		return unknown
	}
	for _, f := range archive.File {
		if path.Clean("/"+f.Name) != path.Clean("/"+path.Join(contents, "MacOS", executable)) {
			continue
		}
		data, err := unpack(f, maxProgram)
		if err != nil {
			return unknown
		}
		return machoSignature(data)
	}
	return unknown
}

func machoSignature(data []byte) codeSignature {
	unknown := codeSignature{state: "unknown"}
	if fat, err := macho.NewFatFile(bytes.NewReader(data)); err == nil && len(fat.Arches) > 0 {
		first := fat.Arches[0]
		if end := int64(first.Offset) + int64(first.Size); end <= int64(len(data)) {
			data = data[first.Offset:end]
		}
	}
	f, err := macho.NewFile(bytes.NewReader(data))
	if err != nil {
		return unknown
	}
	for _, l := range f.Loads {
		raw := l.Raw()
		if len(raw) < 16 || f.ByteOrder.Uint32(raw) != loadCodeSignature {
			continue
		}
		start, size := int64(f.ByteOrder.Uint32(raw[8:])), int64(f.ByteOrder.Uint32(raw[12:]))
		if start+size > int64(len(data)) {
			return unknown
		}
		return readSuperBlob(data[start : start+size])
	}
	return codeSignature{state: "none"}
}

// readSuperBlob reads the directory and whether a signature stands beside it. All numbers are
// big-endian.
func readSuperBlob(blob []byte) codeSignature {
	out := codeSignature{state: "none"}
	if len(blob) < 12 || binary.BigEndian.Uint32(blob) != magicSuperBlob {
		return codeSignature{state: "unknown"}
	}
	n := min(int(binary.BigEndian.Uint32(blob[8:])), 32)
	hasCMS := false
	for i := range n {
		at := 12 + 8*i
		if at+8 > len(blob) {
			break
		}
		slot, offset := binary.BigEndian.Uint32(blob[at:]), int(binary.BigEndian.Uint32(blob[at+4:]))
		if offset < 0 || offset+8 > len(blob) {
			continue
		}
		part := blob[offset:]
		switch slot {
		case slotDirectory:
			out.identifier, out.signer = readCodeDirectory(part)
		case slotCMS:
			hasCMS = binary.BigEndian.Uint32(part[4:]) > 8
		}
	}
	if hasCMS && out.signer != "" {
		out.state = "unverified"
	} else {
		out.signer = ""
	}
	return out
}

func readCodeDirectory(part []byte) (identifier, team string) {
	if len(part) < 52 || binary.BigEndian.Uint32(part) != magicDirectory {
		return "", ""
	}
	text := func(offset uint32) string {
		if int64(offset) >= int64(len(part)) {
			return ""
		}
		end := bytes.IndexByte(part[offset:], 0)
		if end < 0 || end > 255 {
			return ""
		}
		return string(part[offset : int(offset)+end])
	}
	identifier = text(binary.BigEndian.Uint32(part[20:]))
	if binary.BigEndian.Uint32(part[8:]) >= teamSince && binary.BigEndian.Uint32(part[12:])&adHoc == 0 {
		if offset := binary.BigEndian.Uint32(part[48:]); offset > 0 {
			team = text(offset)
		}
	}
	return identifier, team
}
