package recovery_test

import (
	"strings"
	"testing"

	. "zenithridge.example/zridge/core/recovery"
	"zenithridge.example/zridge/core/setting"
)

func TestAtNextStart(t *testing.T) {
	text, yes := setting.TextValue, setting.BoolValue(true)
	for name, each := range map[string]struct {
		values map[setting.ID]setting.Value
		says   []string // a part of each sentence
	}{
		"nothing about the start": {map[setting.ID]setting.Value{MethodOfSystem: text("aes-xts-256")}, nil},
		"the chip alone": {
			map[setting.ID]setting.Value{EncryptionRequired: yes, Silent: yes, StartupExtra: yes, StartupChip: text("require")},
			[]string{"begins without a question", "nobody is asked anything"},
		},
		"a PIN": {
			map[setting.ID]setting.Value{EncryptionRequired: yes, StartupChip: text("allow"), StartupPIN: text("require"),
				PINLength: setting.IntegerValue(8)},
			[]string{"may put it off", "a PIN of at least 8 digits", "calls the service desk"},
		},
		"a PIN, and two people at the desk": {
			map[setting.ID]setting.Value{StartupPIN: text("require"), SecondPerson: yes, EscrowTo: text("service")},
			[]string{"a PIN of at least 4 digits", "A second person there has to consent"},
		},
		"a stick whose loss nobody mends": {
			map[setting.ID]setting.Value{StartupKey: text("require"), EscrowTo: text("off")},
			[]string{"USB stick with the startup key is plugged in", "loses what is on the disk"},
		},
		"a stick and a PIN": {map[setting.ID]setting.Value{StartupKeyWithPIN: text("require")}, []string{"and a PIN", "calls the service desk"}},
		"rules that do not count": {
			map[setting.ID]setting.Value{StartupExtra: setting.BoolValue(false), StartupPIN: text("require")}, nil,
		},
	} {
		got := AtNextStart(func(id setting.ID) setting.Value { return each.values[id] })
		ok := len(got) == len(each.says)
		for i := range got {
			ok = ok && strings.Contains(got[i], each.says[i])
		}
		if !ok {
			t.Errorf("%s: %q, expected %q", name, got, each.says)
		}
	}
}
