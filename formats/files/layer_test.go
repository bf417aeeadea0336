package files_test

import (
	"slices"
	"testing"

	"zenithridge.example/zridge/formats/files"
)

// TestWhatIsEditedHereIsKeptApart lays what a source brings over what was edited here, and takes it
// apart again.
func TestWhatIsEditedHereIsKeptApart(t *testing.T) {
	const brought = `{"id":"LT-1","os":"linux","os_version":"12","owner":"ines","facts":{"ram_gb":8,"chip":"2.0"}}`
	const edited = `{"id":"LT-1","os":"linux","os_version":"12","unit":"slipway","tags":["bench"],"facts":{"ram_gb":16,"chip":"2.0","note":"x"}}`
	local, err := files.LocalFields([]byte(brought), []byte(edited))
	if err != nil || !slices.Equal(local, []string{"facts/ram_gb", "owner"}) {
		t.Fatalf("edited here are %v %v", local, err)
	}
	kept, err := files.LocalPart([]byte(brought), []byte(edited), local)
	if err != nil || string(kept) != `{"facts":{"note":"x","ram_gb":16},"id":"LT-1","tags":["bench"],"unit":"slipway"}` {
		t.Errorf("kept here is %s %v", kept, err)
	}
	const later = `{"id":"LT-1","os":"linux","os_version":"13","owner":"tomas","facts":{"ram_gb":32,"chip":"2.1"}}`
	whole, err := files.Compose([]byte(later), kept, local)
	if err != nil ||
		string(
			whole,
		) != `{"facts":{"chip":"2.1","note":"x","ram_gb":16},"id":"LT-1","os":"linux","os_version":"13","tags":["bench"],"unit":"slipway"}` {
		t.Errorf("together it is %s %v", whole, err)
	}
	if _, _, err := files.DecodeJSON("devices", whole); err != nil {
		t.Errorf("together it is no device: %v", err)
	}
	for name, c := range map[string]struct{ brought, body, want string }{
		"nothing was edited": {brought, "", brought}, "no source": {"", edited, edited},
	} {
		if got, err := files.Compose([]byte(c.brought), []byte(c.body), nil); err != nil || string(got) != c.want {
			t.Errorf("%s: %s %v", name, got, err)
		}
	}
	if local, _ := files.LocalFields([]byte(brought), []byte(brought)); len(local) != 0 {
		t.Errorf("as the source has it: %v", local)
	}
	if local, _ := files.LocalFields([]byte(`{"id":"g","members":["a","b"]}`), []byte(`{"id":"g","members":["b","a"]}`)); len(local) != 1 {
		t.Errorf("a list in another order is edited: %v", local)
	}
	altered, err := files.AlteredFields([]byte(brought), []byte(later))
	if err != nil || len(altered) != 4 || altered[0] != (files.AlteredField{Field: "facts/chip", From: `"2.0"`, To: `"2.1"`}) {
		t.Errorf("altered are %v %v", altered, err)
	}
	for _, bad := range []string{`[]`, `{"facts":7}`, `{`} {
		if _, err := files.Compose([]byte(bad), []byte(edited), nil); err == nil {
			t.Errorf("%s was composed", bad)
		}
	}
}
