package escrow_test

import (
	"crypto/rand"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/core/recovery"
	sealed "zenithridge.example/zridge/formats/escrow"
	. "zenithridge.example/zridge/service/escrow"
)

var at = time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)

func load(t *testing.T, c Config) *Keyring {
	t.Helper()
	k, err := Load(c)
	if err != nil {
		t.Fatal(err)
	}
	return k
}

// sealTo seals a new key to recipients.
func sealTo(t *testing.T, recipients ...string) (recovery.Key, []byte) {
	t.Helper()
	key, err := recovery.New(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	to, err := sealed.Recipients(recipients)
	if err != nil {
		t.Fatal(err)
	}
	data, err := sealed.Seal(key, "L1", "v1", at, to)
	if err != nil {
		t.Fatal(err)
	}
	return key, data
}

func make1(t *testing.T, k *Keyring) string {
	t.Helper()
	r, err := k.Make(at)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// TestIdentities makes identities, opens keys with them after they were read again, and destroys one.
func TestIdentities(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "escrow.key")
	k := load(t, Config{File: file})
	if len(k.Recipients()) != 0 {
		t.Error("identities that nobody made")
	}
	first, second := make1(t, k), make1(t, k)
	if is, err := os.Stat(file); err != nil || is.Mode().Perm() != 0o600 {
		t.Errorf("the file's mode is %v, %v", is.Mode(), err)
	}
	key, data := sealTo(t, first)
	both, other := sealTo(t, first, second)
	k = load(t, Config{File: file})
	if !slices.Equal(k.Recipients(), []string{first, second}) {
		t.Errorf("recipients %v", k.Recipients())
	}
	if got, err := k.Open(data, "L1", "v1"); err != nil || got != key {
		t.Errorf("opened: %v", err)
	}
	for name, open := range map[string]func() (recovery.Key, error){
		"for another laptop": func() (recovery.Key, error) { return k.Open(data, "L2", "v1") },
		"for another volume": func() (recovery.Key, error) { return k.Open(data, "L1", "v2") },
		"cut short":          func() (recovery.Key, error) { return k.Open(data[:len(data)-1], "L1", "v1") },
		"not sealed":         func() (recovery.Key, error) { return k.Open([]byte("age"), "L1", "v1") },
	} {
		if got, err := open(); err == nil || !got.IsZero() || strings.Contains(err.Error(), string(key.Passphrase())) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := k.Destroy(first); err != nil {
		t.Fatal(err)
	}
	k = load(t, Config{File: file})
	if _, err := k.Open(data, "L1", "v1"); !errors.Is(err, sealed.ErrNotFor) {
		t.Errorf("what was sealed to a destroyed identity: %v", err)
	}
	if got, err := k.Open(other, "L1", "v1"); err != nil || got != both {
		t.Errorf("what was sealed to both: %v", err)
	}
	if text, err := os.ReadFile(file); err != nil || strings.Contains(string(text), first) {
		t.Errorf("the file has what was destroyed, %v", err)
	}
}

// TestAPassphrase protects identities that were not protected, and refuses another passphrase.
func TestAPassphrase(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "escrow.key")
	recipient := make1(t, load(t, Config{File: file}))
	load(t, Config{File: file, Passphrase: "correct horse battery"})
	text, err := os.ReadFile(file)
	if err != nil || strings.Contains(string(text), recipient) || strings.Contains(string(text), "SECRET") {
		t.Errorf("the file is not protected, %v", err)
	}
	if k := load(t, Config{File: file, Passphrase: "correct horse battery"}); !k.Has(recipient) {
		t.Error("the identity is lost")
	}
	for name, c := range map[string]Config{
		"another passphrase": {File: file, Passphrase: "another one, as long"},
		"none":               {File: file},
		"both":               {File: file, Passphrase: "x", Module: Module{Path: "/m"}},
	} {
		if _, err := Load(c); err == nil {
			t.Errorf("%s: read", name)
		}
	}
}

// TestASecurityModule protects identities by a key of SoftHSM, a security module in software that speaks PKCS #11.
func TestASecurityModule(t *testing.T) {
	const library = "/usr/lib/softhsm/libsofthsm2.so"
	if _, err := os.Stat(library); err != nil {
		t.Skip("SoftHSM is not installed")
	}
	folder := t.TempDir()
	tokens, config := filepath.Join(folder, "tokens"), filepath.Join(folder, "softhsm.conf")
	if err := errors.Join(os.Mkdir(tokens, 0o700),
		os.WriteFile(config, []byte("directories.tokendir = "+tokens+"\nobjectstore.backend = file\n"), 0o600)); err != nil {
		t.Fatal(err)
	}
	t.Setenv("SOFTHSM2_CONF", config)
	for _, label := range []string{"ridge", "other"} {
		if out, err := exec.Command("softhsm2-util", "--init-token", "--free", "--label", label, "--pin", "4711", "--so-pin",
			"0815").CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	file := filepath.Join(folder, "escrow.key")
	with := func(alter func(*Module)) Config {
		m := Module{Path: library, Token: "ridge", PIN: "4711"}
		if alter != nil {
			alter(&m)
		}
		return Config{File: file, Module: m}
	}
	k := load(t, with(nil))
	recipient := make1(t, k)
	key, data := sealTo(t, recipient)
	text, err := os.ReadFile(file)
	if err != nil || strings.Contains(string(text), recipient) || !strings.Contains(string(text), "PKCS #11") {
		t.Errorf("the file is %s, %v", text, err)
	}
	k = load(t, with(nil))
	if got, err := k.Open(data, "L1", "v1"); err != nil || got != key {
		t.Errorf("opened: %v", err)
	}
	for name, c := range map[string]Config{
		"no module":         {File: file},
		"another PIN":       with(func(m *Module) { m.PIN = "0000" }),
		"another token":     with(func(m *Module) { m.Token = "other" }),
		"no such token":     with(func(m *Module) { m.Token = "none" }),
		"another key":       with(func(m *Module) { m.Key = "none" }),
		"no such library":   with(func(m *Module) { m.Path = "/none.so" }),
		"a passphrase only": {File: file, Passphrase: "correct horse battery"},
	} {
		if k, err := Load(c); err == nil {
			t.Errorf("%s: read %v", name, k.Recipients())
		} else if strings.Contains(err.Error(), "4711") {
			t.Errorf("%s: the fault has the PIN: %v", name, err)
		}
	}
}

func TestFilesThatAreNoIdentities(t *testing.T) {
	t.Parallel()
	for name, text := range map[string]string{
		"no list":         `{}`,
		"another text":    `[{"recipient":"age1x","identity":"y"}]`,
		"half of another": `[{"recipient":"age1fyjh7llxwn0asx554x39njj0jlnnrmwshhu3tqxdt3k752h0c3kqmu7jh6","identity":"AGE-SECRET-KEY-1GFPYYSJZGFPYYSJZGFPYYSJZGFPYYSJZGFPYYSJZGFPYYSJZGFPQ4EGAEX"}]`,
	} {
		file := filepath.Join(t.TempDir(), "escrow.key")
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := Load(Config{File: file}); err == nil || strings.Contains(err.Error(), "GFPYY") {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := Load(Config{File: filepath.Join(t.TempDir(), "k"), Known: []string{"AGE-SECRET-KEY-1NOTONE"}}); err == nil ||
		strings.Contains(err.Error(), "NOTONE") {
		t.Errorf("an identity that is none: %v", err)
	}
}
