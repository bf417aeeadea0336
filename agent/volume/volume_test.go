package volume_test

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"

	. "zenithridge.example/zridge/agent/volume"
)

var tool = Tool{}

const uuid = "6b1f5c8e-0000-4000-8000-000000000001"

// blank makes a file of some MiB, full of zeroes.
func blank(t *testing.T, mib int64) string {
	t.Helper()
	if _, err := exec.LookPath("cryptsetup"); err != nil {
		t.Skip("cryptsetup is not installed")
	}
	path := filepath.Join(t.TempDir(), "volume.img")
	if err := os.WriteFile(path, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(path, mib<<20); err != nil {
		t.Fatal(err)
	}
	return path
}

func read(t *testing.T, path string) *Header {
	t.Helper()
	h, err := tool.Read(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	return h
}

func TestKeysAndTokens(t *testing.T) {
	t.Parallel()
	path := blank(t, 32)
	ctx := t.Context()
	if _, err := tool.Read(ctx, path); !errors.Is(err, ErrPlain) {
		t.Fatalf("a blank volume: %v", err)
	}
	if is, err := tool.IsBlank(ctx, path); err != nil || !is {
		t.Fatalf("a blank volume is not: %v", err)
	}
	first, second := []byte("the first key"), []byte("the second\nkey \x00 with odd bytes")
	if err := tool.Format(ctx, path, uuid, "aes-xts-256", first); err != nil {
		t.Fatal(err)
	}
	if is, err := tool.IsBlank(ctx, path); err != nil || is {
		t.Errorf("an encrypted volume counts as blank: %v", err)
	}
	slot, err := tool.AddKey(ctx, path, first, second)
	if err != nil || slot != 1 {
		t.Fatalf("slot %d, %v", slot, err)
	}
	if err := tool.AddToken(ctx, path, Token{Type: RecoveryToken, Slots: []string{"1"}, Identifier: "482109375512",
		Recipients: []string{"age1x"}}); err != nil {
		t.Fatal(err)
	}
	h := read(t, path)
	tokens := h.Recovery()
	if len(tokens) != 1 || tokens[0].Slot() != 1 || tokens[0].Identifier != "482109375512" || !slices.Equal(tokens[0].Recipients,
		[]string{"age1x"}) {
		t.Errorf("tokens %+v", tokens)
	}
	if h.Method() != "aes-xts-256" || len(h.People()) != 1 || h.People()[0].KDF != "pbkdf2" ||
		!slices.Equal(h.Startup(), []string{"passphrase"}) {
		t.Errorf("method %s, people %+v, startup %v", h.Method(), h.People(), h.Startup())
	}
	for key, want := range map[string]int{string(first): 0, string(second): 1, "another": -1} {
		if got, err := tool.Opens(ctx, path, []byte(key)); err != nil || got != want {
			t.Errorf("%q opens %d, %v; expected %d", key, got, err, want)
		}
	}
	if err := tool.DropSlot(ctx, path, 0, []byte("another")); err == nil {
		t.Error("a slot is dropped with a key that opens nothing")
	}
	if err := tool.DropSlot(ctx, path, 0, second); err != nil {
		t.Fatal(err)
	}
	if got, err := tool.Opens(ctx, path, first); err != nil || got != -1 {
		t.Errorf("a key opens %d after its slot was dropped, %v", got, err)
	}
	if err := tool.DropToken(ctx, path, tokens[0].ID); err != nil || len(read(t, path).Tokens) != 0 {
		t.Errorf("the token is still there: %v", err)
	}
}

func TestMethods(t *testing.T) {
	t.Parallel()
	for _, method := range []string{"aes-cbc-128", "aes-cbc-256", "aes-xts-128", "aes-xts-256"} {
		path := blank(t, 32)
		if err := tool.Format(t.Context(), path, uuid, method, []byte("key")); err != nil {
			t.Fatal(err)
		}
		if got := read(t, path).Method(); got != method {
			t.Errorf("%s reads as %s", method, got)
		}
	}
	if !Weaker("aes-cbc-256", "aes-xts-128") || Weaker("aes-xts-256", "aes-xts-128") || Weaker("another", "aes-xts-256") {
		t.Error("methods are in another order")
	}
}

func TestOldHeaders(t *testing.T) {
	t.Parallel()
	path := blank(t, 32)
	c := exec.Command("cryptsetup", "luksFormat", "--type", "luks1", "--batch-mode", "--pbkdf-force-iterations", "1000", path, "-")
	in, err := c.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	go func() { in.Write([]byte("key")); in.Close() }()
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	if _, err := tool.Read(t.Context(), path); !errors.Is(err, ErrOldHeader) {
		t.Errorf("an old header: %v", err)
	}
}

// TestEncryptingInPlace encrypts a file system with a file in it, cuts that off and goes on. It is not opened here: that
// takes a device mapper. The volume has to hold the same bytes, and to open with its key.
func TestEncryptingInPlace(t *testing.T) {
	t.Parallel()
	path := blank(t, 160)
	if out, err := exec.Command("mkfs.ext4", "-q", path).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	if is, err := tool.IsBlank(t.Context(), path); err != nil || is {
		t.Fatalf("a file system counts as blank: %v", err)
	}
	cut, cancel := context.WithCancel(t.Context())
	began := make(chan error, 1)
	go func() { began <- tool.Encrypt(cut, path, uuid, "aes-xts-256", []byte("key")) }()
	for { // until it has begun
		if _, err := tool.Read(t.Context(), path); err == nil {
			break
		}
		select {
		case err := <-began:
			t.Fatalf("it ended before it began: %v", err)
		default:
		}
	}
	cancel()
	<-began
	for n := 0; read(t, path).Reencrypting; n++ {
		if err := tool.Resume(t.Context(), path, []byte("key")); err != nil && n > 3 {
			t.Fatal(err)
		}
	}
	if slot, err := tool.Opens(t.Context(), path, []byte("key")); err != nil || slot < 0 {
		t.Errorf("the key opens slot %d, %v", slot, err)
	}
	if h := read(t, path); h.Method() != "aes-xts-256" || h.Reencrypting {
		t.Errorf("method %s, being encrypted: %t", h.Method(), h.Reencrypting)
	}
}
