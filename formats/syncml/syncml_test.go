package syncml_test

import (
	"encoding/base64"
	"errors"
	"reflect"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/setting"
	. "zenithridge.example/zridge/formats/syncml"
)

// sample has every element that the codec writes.
var sample = Message{
	Header: Header{
		VerDTD:     VerDTD,
		VerProto:   VerProto,
		SessionID:  "17",
		MsgID:      "2",
		Target:     "http://x/dm?a=1&b=2",
		Source:     "LT-1",
		SourceName: "LT <1>",
		MaxMsgSize: 65536,
		Cred:       &Cred{Format: "b64", Type: AuthMD5, Data: "abc="},
	},
	Commands: []Command{
		{Name: "Alert", CmdID: "1", Data: AlertClientInitiated},
		{
			Name:       "Status",
			CmdID:      "2",
			MsgRef:     "1",
			CmdRef:     "0",
			Cmd:        "SyncHdr",
			TargetRefs: []string{"http://x/dm"},
			SourceRefs: []string{"LT-1"},
			Data:       AuthAccepted,
			Chal:       &Chal{Format: "b64", Type: AuthMD5, NextNonce: "bm9uY2U="},
		},
		{Name: "Atomic", CmdID: "3", Commands: []Command{
			{
				Name:  "Replace",
				CmdID: "4",
				Items: []Item{
					{
						Target: SettingPath + "a.b",
						Meta:   Meta{Format: FormatText, Type: "text/plain", Size: 900},
						Data:   " <two> & \"three\"\n é ",
						More:   true,
					},
				},
			},
			{Name: "Delete", CmdID: "5", Items: []Item{{Target: SettingPath + "c", Meta: Meta{Format: FormatNull}}}},
		}},
		{
			Name:   "Results",
			CmdID:  "6",
			MsgRef: "1",
			CmdRef: "9",
			Items:  []Item{{Source: DigestPath, Meta: Meta{Format: FormatText}, Data: "00ff"}},
		},
	},
	Final: true,
}

func TestMessagesSurvive(t *testing.T) {
	text := Encode(&sample)
	got, err := Decode(text)
	if err != nil {
		t.Fatal(err)
	}
	if !reflect.DeepEqual(*got, sample) {
		t.Errorf("found\n%+v\nexpected\n%+v", *got, sample)
	}
	if again := Encode(got); string(again) != string(text) {
		t.Error("encoding twice gives other bytes")
	}
	if n := Size(&sample.Commands[0]); n != strings.Index(string(text), "<Status>")-strings.Index(string(text), "<Alert>") {
		t.Errorf("the alert is said to take %d bytes", n)
	}
}

func TestWhatIsNoMessageSaysWhy(t *testing.T) {
	good := string(Encode(&sample))
	for name, c := range map[string]struct{ text, says string }{
		"empty":           {"", "no element"},
		"text":            {"hello", "no element"},
		"cut off":         {good[:len(good)/2], "unexpected EOF"},
		"two roots":       {good + "<SyncML/>", "one <SyncML>"},
		"other namespace": {strings.Replace(good, "SYNCML1.2", "SYNCML1.1", 1), "SYNCML1.1"},
		"document type":   {`<!DOCTYPE x>` + good, "document type"},
		"deep": {strings.Replace(good, "<SyncBody>", "<SyncBody>"+
			strings.Repeat("<a>", 32)+strings.Repeat("</a>", 32), 1), "32 levels"},
		"long":                           {good + strings.Repeat(" ", MaxMessage), "1 MiB"},
		"no message id":                  {strings.Replace(good, "<MsgID>2</MsgID>", "", 1), "MsgID"},
		"a message id that is no number": {strings.Replace(good, "<MsgID>2</MsgID>", "<MsgID>two</MsgID>", 1), "expected a number"},
		"a negative message id":          {strings.Replace(good, "<MsgID>2</MsgID>", "<MsgID>-2</MsgID>", 1), "expected a number"},
		"entity":                         {strings.Replace(good, "LT &lt;1&gt;", "&unknown;", 1), "entity"},
	} {
		_, err := Decode([]byte(c.text))
		var bad *SyntaxError
		if !errors.As(err, &bad) || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, expected %q", name, err, c.says)
		}
	}
}

func TestValuesOfNodes(t *testing.T) {
	for _, v := range []setting.Value{setting.BoolValue(true), setting.BoolValue(false), setting.IntegerValue(-7),
		setting.TextValue(""), setting.TextValue(" true "), setting.ListValue(nil), setting.ListValue([]string{"a", `b"c`})} {
		data, meta := WriteValue(v)
		back, err := ReadValue(data, meta)
		if err != nil || !back.Equal(v) {
			t.Errorf("%v became %q %+v, then %v (%v)", v, data, meta, back, err)
		}
	}
	for _, c := range []struct {
		data string
		meta Meta
	}{{"yes", Meta{Format: FormatBool}}, {"1.5", Meta{Format: FormatInt}}, {"", Meta{Format: FormatInt}},
		{"{}", Meta{Format: FormatText, Type: "application/json"}}, {"[1]", Meta{Format: FormatText, Type: "application/json"}},
		{"x", Meta{Format: "date"}}, {"x", Meta{}}} {
		if v, err := ReadValue(c.data, c.meta); err == nil {
			t.Errorf("%q with %+v was taken for %v", c.data, c.meta, v)
		}
	}
	for path, want := range map[string]setting.ID{SettingPath + "a.b": "a.b", ReportedPath + "c": "c", SettingPath: "", SettingPath +
		"a/b": "", DigestPath: "", "./DevInfo/Man": ""} {
		if id, ok := SettingOf(path); id != want || ok != (want != "") {
			t.Errorf("%s names %q %v", path, id, ok)
		}
	}
}

// TestDigests computes the example of OMA-TS-DM_Security's MD5 authentication: user Bruce2, secret
// OhBehave, nonce Nonce.
func TestDigests(t *testing.T) {
	if sum, err := base64.StdEncoding.DecodeString(UserDigest("Bruce2", "OhBehave")); err != nil || len(sum) != 16 {
		t.Errorf("the user digest is no MD5 in base64: %d bytes, %v", len(sum), err)
	}
	if got := Digest(UserDigest("Bruce2", "OhBehave"), []byte("Nonce")); got != "Zz6EivR3yeaaENcRN6lpAQ==" {
		t.Errorf("the digest of the standard's example is %q", got)
	}
	a := map[setting.ID]setting.Value{"a": setting.BoolValue(true), "b": setting.TextValue("x")}
	same := map[setting.ID]setting.Value{"b": setting.TextValue("x"), "a": setting.BoolValue(true)}
	other := map[setting.ID]setting.Value{"a": setting.BoolValue(true), "b": setting.TextValue("y")}
	if ReportDigest(a) != ReportDigest(same) || ReportDigest(a) == ReportDigest(other) || ReportDigest(nil) == ReportDigest(a) {
		t.Error("digests do not tell reports apart")
	}
}

func FuzzNoTextBreaksTheReader(f *testing.F) {
	f.Add(Encode(&sample))
	f.Add([]byte(`<SyncML xmlns="SYNCML:SYNCML1.2"><SyncHdr/><SyncBody/></SyncML>`))
	f.Fuzz(func(t *testing.T, data []byte) {
		m, err := Decode(data)
		if err != nil {
			return
		}
		if _, err := Decode(Encode(m)); err != nil && !strings.ContainsAny(string(data), "\x00\x01") {
			t.Errorf("what was read can't be read again: %v", err)
		}
	})
}

// TestWhatAuthenticatesAMessage compares with what another program computed.
func TestWhatAuthenticatesAMessage(t *testing.T) {
	nonce := []byte{0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15}
	mac := MAC(UserDigest("LT-1", "s"), nonce, []byte("<SyncML/>"))
	if mac != "QZK0xSCn4r8Zj2ZL1mp+cQ==" {
		t.Errorf("the MAC is %s", mac)
	}
	if user, got, ok := ParseMAC(FormatMAC("LT-1", mac)); user != "LT-1" || got != mac || !ok {
		t.Errorf("read back: %s %s %v", user, got, ok)
	}
	for value, ok := range map[string]bool{
		`username=LT-1,mac=AA==`:                      true,
		`Algorithm=md5 , username = "LT-1", MAC=AA==`: true,
		`algorithm=SHA1, username="LT-1", mac=AA==`:   false,
		`algorithm=MD5, username="LT-1"`:              false,
		`algorithm=MD5, mac=AA==`:                     false,
		`username="LT-1", username="LT-2", mac=AA==`:  false,
		`username="LT-1, mac=AA==`:                    false,
		`LT-1`:                                        false,
		``:                                            false,
		`algorithm=MD5, username="LT-1", mac=AA==, mac=BB==`: false,
	} {
		if user, got, read := ParseMAC(value); read != ok || ok && (user != "LT-1" || got != "AA==") {
			t.Errorf("%s: %s %s %v", value, user, got, read)
		}
	}
}
