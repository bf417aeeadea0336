package files_test

import (
	"reflect"
	"testing"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/demo/world"
	"zenithridge.example/zridge/formats/files"
)

// What is stored is read as any other input is, with the same faults.
func TestStoredReaderReadsWhatDecodeJSONReads(t *testing.T) {
	type body struct {
		kind estate.Kind
		text string
	}
	bodies := []body{
		{
			estate.KindPerson,
			`{"id":"ada","name":"Ada \"A\" Lovelace","attributes":{"größe":"\u00e9","list":["a","b"],"none":[],"on":true,"n":-3}}`,
		},
		{estate.KindPerson, ` {"id": "ada" } `},
		{estate.KindPerson, `{"id":"ada","unit":""}`},
		{estate.KindPerson, `{"id":"ada","id":"bob"}`},
		{estate.KindPerson, `{"id":"ada","colour":"red"}`},
		{estate.KindPerson, `{"id":"ada","attributes":{"a":1.5}}`},
		{estate.KindPerson, `{"id":"ada","attributes":{"a":{"b":1}}}`},
		{estate.KindPerson, `{"id":"ada","attributes":{"a":[1]}}`},
		{estate.KindPerson, `{"id":"ada"} {"id":"bob"}`},
		{estate.KindPerson, `{"id":"ada"`},
		{estate.KindPerson, `["ada"]`},
		{
			estate.KindDevice,
			`{"id":"lt-1","owner":"ada","users":["bob","eve"],"os":"linux","os_version":"13","tags":["x"],"facts":{"ram_gb":16}}`,
		},
		{estate.KindDevice, `{"id":"lt-1","os":"linux","owner":""}`},
		{estate.KindDevice, `{"id":"lt-1","os":7}`},
		{estate.KindDevice, `{"id":"lt-1","tags":["x",7]}`},
		{estate.KindDevice, "{\"id\":\"lt-\xff\"}"},
		{estate.KindUnit, `{"id":"root","title":"All"}`},
	}
	s := world.Make(world.Of(200), 3)
	for _, p := range s.People {
		text, err := files.EncodeJSON(*p)
		if err != nil {
			t.Fatal(err)
		}
		bodies = append(bodies, body{estate.KindPerson, string(text)})
	}
	for _, d := range s.Devices {
		text, err := files.EncodeJSON(*d)
		if err != nil {
			t.Fatal(err)
		}
		bodies = append(bodies, body{estate.KindDevice, string(text)})
	}
	r := files.NewStoredReader()
	for _, b := range bodies {
		got, err := r.Read(b.kind, []byte(b.text))
		want, _, wanted := files.DecodeJSON(b.kind, []byte(b.text))
		if !reflect.DeepEqual(plain(got), plain(want)) {
			t.Errorf("%s: read %#v, expected %#v", b.text, got, want)
		}
		if !reflect.DeepEqual(err, wanted) {
			t.Errorf("%s: the error is %v, expected %v", b.text, err, wanted)
		}
	}
}

// plain makes empty lists and maps nothing: they mean the same.
func plain(object any) any {
	empty := func(m map[string]setting.Value) map[string]setting.Value {
		if len(m) == 0 {
			return nil
		}
		return m
	}
	switch o := object.(type) {
	case estate.Person:
		o.Attributes = empty(o.Attributes)
		return o
	case estate.Device:
		o.Facts = empty(o.Facts)
		if len(o.Tags) == 0 {
			o.Tags = nil
		}
		if len(o.Users) == 0 {
			o.Users = nil
		}
		return o
	}
	return object
}

func BenchmarkStoredReader(b *testing.B) {
	s := world.Make(world.Of(2000), 1)
	var bodies [][]byte
	for _, d := range s.Devices {
		text, err := files.EncodeJSON(*d)
		if err != nil {
			b.Fatal(err)
		}
		bodies = append(bodies, text)
	}
	b.Run("stored", func(b *testing.B) {
		r := files.NewStoredReader()
		for b.Loop() {
			for _, text := range bodies {
				if _, err := r.Read(estate.KindDevice, text); err != nil {
					b.Fatal(err)
				}
			}
		}
	})
	b.Run("any", func(b *testing.B) {
		for b.Loop() {
			for _, text := range bodies {
				if _, _, err := files.DecodeJSON(estate.KindDevice, text); err != nil {
					b.Fatal(err)
				}
			}
		}
	})
}
