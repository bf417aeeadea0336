package contents_test

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"strconv"
	"strings"
	"testing"

	"github.com/ulikunitz/xz"

	"zenithridge.example/zridge/formats/contents"
)

// debian puts a control member into a package.
func debian(member string, data []byte) []byte {
	var out bytes.Buffer
	out.WriteString("!<arch>\n")
	add := func(name string, body []byte) {
		out.WriteString(name + strings.Repeat(" ", 16-len(name)) + "0           0     0     100644  ")
		size := []byte(strings.Repeat(" ", 10))
		copy(size, []byte(strconv.Itoa(len(body))))
		out.Write(size)
		out.WriteString("`\n")
		out.Write(body)
		if len(body)%2 == 1 {
			out.WriteByte('\n')
		}
	}
	add("debian-binary", []byte("2.0\n"))
	add(member, data)
	return out.Bytes()
}

// A second block, or a second stream, asks for memory of its own: a package of a kilobyte could ask for gigabytes.
func TestABlockAfterTheFirstIsNotUnpacked(t *testing.T) {
	var packed bytes.Buffer
	w, err := xz.NewWriter(&packed)
	if err != nil {
		t.Fatal(err)
	}
	w.Write(make([]byte, 1024))
	w.Close()
	stream := packed.Bytes()
	// The header of a block whose dictionary is 4 GiB less one byte, with its sum.
	header := []byte{2, 0, 0x21, 1, 40, 0, 0, 0}
	header = binary.LittleEndian.AppendUint32(header, crc32.ChecksumIEEE(header))
	block := bytes.Index(stream[12:], []byte{0x21, 1}) // of the first block
	if block < 0 {
		t.Fatal("the stream has no filter")
	}
	footer := bytes.LastIndex(stream, []byte("YZ"))
	index := footer - 10 - 4*(int(binary.LittleEndian.Uint32(stream[footer-6:]))+1)
	for name, data := range map[string][]byte{
		"a block":  append(append(bytes.Clone(stream[:index]), header...), stream[index:]...),
		"a stream": append(append(bytes.Clone(stream), stream[:12]...), append(header, stream[12:]...)...),
	} {
		reading, err := contents.Read("tool.deb", debian("control.tar.xz", data), contents.Options{})
		if err == nil {
			t.Errorf("%s after the first: %+v", name, reading)
		}
	}
}

// Rules are counted while they are read.
func TestRulesWithoutEndAreRefused(t *testing.T) {
	for name, item := range map[string]string{"zeros": "0,", "objects": "{},", "lists": "[],"} {
		text := `{"format":"zenith-ridge/application-rules/1","id":"x","rules":[` + strings.Repeat(item, 7<<20/len(item)) + `0]}`
		if _, err := contents.Read("rules.json", []byte(text), contents.Options{}); err == nil || !strings.Contains(err.Error(), "5000") {
			t.Errorf("%s: %.200v", name, err)
		}
	}
}
