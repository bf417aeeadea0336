package syncml_test

import (
	"encoding/hex"
	"strings"
	"testing"

	. "zenithridge.example/zridge/formats/syncml"
)

func TestNotifications(t *testing.T) {
	credential, nonce := UserDigest("LT-1", "secret"), []byte("nonce")
	n := Notification{SessionID: 0x1234, Server: "larkfell", ByServer: true}
	data, err := EncodeNotification(n, credential, nonce)
	if err != nil {
		t.Fatal(err)
	}
	// 1.2 in ten bits, in the background, by the service: 0000001100 01 1 0…; then session, length, id.
	if got := hex.EncodeToString(data[16:24]); got != "0318000000123408" {
		t.Errorf("the trigger begins with %s", got)
	}
	if got, err := DecodeNotification(data, credential, nonce); err != nil || got != n {
		t.Errorf("found %+v, %v", got, err)
	}
	vendor, _ := EncodeNotification(Notification{Server: "x"}, credential, nonce)
	if got, err := DecodeNotification(vendor, credential, nonce); err != nil || got.ByServer {
		t.Errorf("found %+v, %v", got, err)
	}
	for name, bad := range map[string][]byte{
		"nothing": nil, "short": data[:20], "cut": data[:len(data)-1], "another bit": append([]byte{data[0] ^ 1}, data[1:]...),
		"another session": append(append(append([]byte{}, data[:21]...), 9), data[22:]...),
	} {
		if _, err := DecodeNotification(bad, credential, nonce); err != ErrNotification {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := DecodeNotification(data, UserDigest("LT-2", "secret"), nonce); err != ErrNotification {
		t.Errorf("for another laptop: %v", err)
	}
	if _, err := DecodeNotification(data, credential, []byte("older")); err != ErrNotification {
		t.Errorf("with another nonce: %v", err)
	}
	if _, err := EncodeNotification(Notification{Server: strings.Repeat("x", 256)}, credential, nonce); err == nil {
		t.Error("an id that is too long is taken")
	}
}
