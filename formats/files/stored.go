// This file reads objects as they are stored: many, and nearly always without a fault.

package files

import (
	"bytes"
	"strconv"

	"github.com/go-json-experiment/json/jsontext"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
)

// StoredReader reads objects that EncodeJSON wrote. It gives what DecodeJSON gives, sooner and in
// less memory: people and devices are read without a tree, and texts that many of them share are
// kept once. It is for one thread.
type StoredReader struct {
	buffer  bytes.Buffer
	decoder *jsontext.Decoder
	inner   *jsontext.Decoder                   // for maps of values within an object
	texts   map[string]string                   // texts that were seen, by themselves
	maps    map[string]map[string]setting.Value // maps of values that were seen, by their JSON
	failed  bool                                // what is read is not what was expected
}

// NewStoredReader makes a reader.
func NewStoredReader() *StoredReader {
	return &StoredReader{
		decoder: jsontext.NewDecoder(&bytes.Buffer{}),
		inner:   jsontext.NewDecoder(&bytes.Buffer{}),
		texts:   map[string]string{},
		maps:    map[string]map[string]setting.Value{},
	}
}

// Read reads one object. The error is that of DecodeJSON.
func (r *StoredReader) Read(kind estate.Kind, data []byte) (object any, err error) {
	r.failed = false
	r.buffer = *bytes.NewBuffer(data)
	r.decoder.Reset(&r.buffer)
	switch kind {
	case estate.KindPerson:
		object = r.person()
	case estate.KindDevice:
		object = r.device()
	default:
		r.failed = true
	}
	if r.failed || int(r.decoder.InputOffset()) != len(data) {
		object, _, err = decodeJSON(kind, data, false)
	}
	return object, err
}

func (r *StoredReader) person() (p estate.Person) {
	r.object(func(name string) {
		switch name {
		case "id":
			p.ID = estate.PersonID(r.text())
		case "name":
			p.Name = r.text()
		case "mail":
			p.Mail = r.text()
		case "unit":
			p.Unit = estate.UnitID(r.ref(r.shared()))
		case "attributes":
			p.Attributes = r.values()
		default:
			r.failed = true
		}
	})
	r.failed = r.failed || p.ID == ""
	return p
}

func (r *StoredReader) device() (d estate.Device) {
	r.object(func(name string) {
		switch name {
		case "id":
			d.ID = estate.DeviceID(r.text())
		case "serial":
			d.Serial = r.text()
		case "owner":
			d.Owner = estate.PersonID(r.ref(r.text()))
		case "users":
			r.list(func() { d.Users = append(d.Users, estate.PersonID(r.text())) })
		case "unit":
			d.Unit = estate.UnitID(r.ref(r.shared()))
		case "os":
			d.OS = setting.Platform(r.shared())
		case "os_version":
			d.OSVersion = r.shared()
		case "edition":
			d.Edition = r.shared()
		case "model":
			d.Model = r.shared()
		case "tags":
			r.list(func() { d.Tags = append(d.Tags, r.shared()) })
		case "taken":
			r.list(func() { d.Taken = append(d.Taken, estate.PolicyID(r.text())) })
		case "facts":
			d.Facts = r.values()
		default:
			r.failed = true
		}
	})
	r.failed = r.failed || d.ID == ""
	return d
}

// object reads a map: field is called for each of its fields and reads the value. It returns early
// where something is not as expected.
func (r *StoredReader) object(field func(name string)) {
	if t, err := r.decoder.ReadToken(); err != nil || t.Kind() != '{' {
		r.failed = true
		return
	}
	for !r.failed && r.decoder.PeekKind() == '"' {
		field(r.shared())
	}
	if t, err := r.decoder.ReadToken(); err != nil || t.Kind() != '}' {
		r.failed = true
	}
}

// list reads a list: item is called for each of its items and reads it.
func (r *StoredReader) list(item func()) {
	if t, err := r.decoder.ReadToken(); err != nil || t.Kind() != '[' {
		r.failed = true
		return
	}
	for !r.failed && r.decoder.PeekKind() == '"' {
		item()
	}
	if t, err := r.decoder.ReadToken(); err != nil || t.Kind() != ']' {
		r.failed = true
	}
}

// values reads the attributes of a person or the facts of a device. Many have the same ones, and
// get the same map: it must not be altered.
func (r *StoredReader) values() map[string]setting.Value {
	raw, err := r.decoder.ReadValue()
	if err != nil {
		r.failed = true
		return nil
	}
	if values, seen := r.maps[string(raw)]; seen {
		return values
	}
	values := map[string]setting.Value{}
	outer := r.decoder
	r.decoder = r.inner
	r.decoder.Reset(bytes.NewBuffer(raw))
	r.object(func(name string) { values[name] = r.value() })
	r.decoder = outer
	if !r.failed && len(r.maps) < maxShared {
		r.maps[string(raw)] = values
	}
	return values
}

// value reads a bool, a whole number, a text or a list of texts.
func (r *StoredReader) value() setting.Value {
	switch r.decoder.PeekKind() {
	case '"':
		return setting.TextValue(r.shared())
	case 't', 'f':
		t, err := r.decoder.ReadToken()
		r.failed = r.failed || err != nil
		return setting.BoolValue(err == nil && t.Bool())
	case '0':
		raw, err := r.decoder.ReadValue()
		n, notWhole := strconv.ParseInt(string(raw), 10, 64)
		r.failed = r.failed || err != nil || notWhole != nil
		return setting.IntegerValue(n)
	case '[':
		items := []string{}
		r.list(func() { items = append(items, r.shared()) })
		return setting.ListValue(items)
	}
	r.failed = true
	return setting.Value{}
}

// raw reads a text and gives its bytes, good until the next call. Texts with escapes are left to
// DecodeJSON.
func (r *StoredReader) raw() []byte {
	raw, err := r.decoder.ReadValue()
	if err != nil || len(raw) < 2 || raw[0] != '"' || bytes.IndexByte(raw, '\\') >= 0 {
		r.failed = true
		return nil
	}
	return raw[1 : len(raw)-1]
}

func (r *StoredReader) text() string { return string(r.raw()) }

// shared reads a text that others are likely to have, too.
func (r *StoredReader) shared() string {
	raw := r.raw()
	if text, seen := r.texts[string(raw)]; seen {
		return text
	}
	text := string(raw)
	if len(r.texts) < maxShared {
		r.texts[text] = text
	}
	return text
}

// ref refuses an empty id of another object: DecodeJSON says what is wrong with it.
func (r *StoredReader) ref(id string) string {
	r.failed = r.failed || id == ""
	return id
}

// maxShared is how many texts, and maps, a reader remembers: what every person has of their own is
// not worth it.
const maxShared = 1 << 16
