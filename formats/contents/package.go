// This file reads Debian packages (deb(5)): an ar archive whose control member names the package.

package contents

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
)

const (
	maxControl     = 64 << 10 // bytes of the control file
	maxControlTar  = 4 << 20  // bytes of the control member, unpacked
	maxXZDictCode  = 28       // 64 MiB, what the strongest preset uses
	maxZstdMemory  = 32 << 20
	arHeaderLength = 60
)

func readPackage(data []byte) (*Reading, error) {
	const want = "a Debian package"
	name, member, err := controlMember(data)
	if err != nil {
		return nil, err
	}
	unpacked, err := decompress(strings.TrimPrefix(name, "control.tar"), member)
	if err != nil {
		return nil, err
	}
	archive := tar.NewReader(io.LimitReader(unpacked, maxControlTar))
	for {
		header, err := archive.Next()
		if err != nil {
			return nil, refuse("a package with no control file that can be read", want)
		}
		if path.Clean("/"+header.Name) != "/control" || header.Typeflag != tar.TypeReg {
			continue
		}
		text, err := io.ReadAll(io.LimitReader(archive, maxControl+1))
		if err != nil || len(text) > maxControl {
			return nil, refuse("a control file that can't be read, or over 64 KiB", want)
		}
		return describePackage(string(text))
	}
}

// controlMember finds the control archive among the members (ar(5), the common format).
func controlMember(data []byte) (name string, member []byte, err error) {
	rest := data[len("!<arch>\n"):]
	first := true
	for len(rest) >= arHeaderLength {
		header := rest[:arHeaderLength]
		size, err := strconv.Atoi(strings.TrimSpace(string(header[48:58])))
		if err != nil || size < 0 || size > len(rest)-arHeaderLength || string(header[58:60]) != "`\n" {
			return "", nil, refuse("an archive whose members are damaged", "a Debian package")
		}
		name := strings.TrimSuffix(strings.TrimSpace(string(header[:16])), "/")
		body := rest[arHeaderLength : arHeaderLength+size]
		if first && (name != "debian-binary" || !bytes.HasPrefix(body, []byte("2."))) {
			return "", nil, refuse("an archive that is no Debian package", "a Debian package of format 2")
		}
		first = false
		if strings.HasPrefix(name, "control.tar") {
			return name, body, nil
		}
		rest = rest[arHeaderLength+size:]
		if size%2 == 1 && len(rest) > 0 {
			rest = rest[1:]
		}
	}
	return "", nil, refuse("a package with no control member", "a Debian package")
}

func decompress(kind string, data []byte) (io.Reader, error) {
	damaged := refuse("a control member that can't be unpacked", "a Debian package")
	switch kind {
	case "":
		return bytes.NewReader(data), nil
	case ".gz":
		r, err := gzip.NewReader(bytes.NewReader(data))
		if err != nil {
			return nil, damaged
		}
		return r, nil
	case ".xz":
		// The block header (xz file format 1.2.1, section 3.1) says how much memory unpacking takes: refuse before it is asked for.
		if !xzFits(data) {
			return nil, refuse("a control member that needs more than 64 MiB to unpack", "a Debian package")
		}
		r, err := xz.ReaderConfig{SingleStream: true}.NewReader(bytes.NewReader(data))
		if err != nil {
			return nil, damaged
		}
		return r, nil
	case ".zst":
		r, err := zstd.NewReader(
			bytes.NewReader(data),
			zstd.WithDecoderConcurrency(1),
			zstd.WithDecoderMaxMemory(maxZstdMemory),
			zstd.WithDecoderMaxWindow(maxZstdMemory),
		)
		if err != nil {
			return nil, damaged
		}
		return r, nil
	}
	return nil, refuse(fmt.Sprintf("a control member packed as %.10q", kind), "gzip, xz, zstd or none")
}

// xzFits reads the header of the first block: one LZMA2 filter, with a dictionary that is not too large.
func xzFits(data []byte) bool {
	if len(data) < 16 {
		return false
	}
	flags, at := data[13], 14
	for _, sized := range []byte{0x40, 0x80} { // sizes of the block, which need not be there
		if flags&sized != 0 {
			for at < len(data) && data[at]&0x80 != 0 {
				at++
			}
			at++
		}
	}
	return flags&0x03 == 0 && at+2 < len(data) && data[at] == 0x21 && data[at+1] == 1 && data[at+2] <= maxXZDictCode && xzHasOneBlock(data)
}

// xzHasOneBlock tells whether nothing but the index follows the first block: another one would have a dictionary of its own. The chunks of
// the block say how long they are, so that it is known before anything is unpacked.
func xzHasOneBlock(data []byte) bool {
	at := 12 + 4*(int(data[12])+1) // where the chunks begin: after the headers of the stream and of the block
	begin := at
	for {
		if at >= len(data) {
			return false
		}
		control := data[at]
		switch {
		case control == 0: // the end of the chunks
			at++
			for (at-begin)%4 != 0 {
				at++
			}
			check := []int{0, 4, 4, 4, 8, 8, 8, 16, 16, 16, 32, 32, 32, 64, 64, 64}[data[7]&0x0f]
			return at+check < len(data) && data[at+check] == 0 // the index begins with 0, a block does not
		case control <= 2: // not compressed
			if at+3 > len(data) {
				return false
			}
			at += 3 + 1 + int(data[at+1])<<8 + int(data[at+2])
		case control < 0x80:
			return false
		default:
			header := 5
			if control >= 0xc0 { // with new properties
				header = 6
			}
			if at+header > len(data) {
				return false
			}
			at += header + 1 + int(data[at+3])<<8 + int(data[at+4])
		}
	}
}

func describePackage(control string) (*Reading, error) {
	fields := map[string]string{}
	for line := range strings.SplitSeq(control, "\n") {
		if strings.HasPrefix(line, " ") || strings.HasPrefix(line, "\t") {
			continue // the rest of a long field, the description
		}
		if key, value, found := strings.Cut(line, ":"); found {
			fields[key] = strings.TrimSpace(value)
		}
	}
	name := fields["Description"]
	if name == "" {
		name = fields["Package"]
	}
	return application(
		&Application{
			Name:       name,
			Identifier: fields["Package"],
			Version:    fields["Version"],
			Signed:     "unknown",
			Platform:   "linux",
			Source:     "a Debian package",
		},
		"application/vnd.debian.binary-package",
		"a package carries no signature of its own: the archive that it comes from is signed. Its maintainer is "+fields["Maintainer"],
	)
}
