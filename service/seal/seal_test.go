package seal

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestSecretsAreSealed(t *testing.T) {
	file := filepath.Join(t.TempDir(), "seal.key")
	key, err := Load(file, "")
	if err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key file: %v, %v", info, err)
	}
	sealed, err := key.Seal("JBSWY3DPEHPK3PXP")
	if err != nil || strings.Contains(sealed, "JBSWY3DP") {
		t.Fatal(sealed, err)
	}
	again, err := Load(file, "")
	if err != nil {
		t.Fatal(err)
	}
	if got, err := again.Open(sealed); err != nil || got != "JBSWY3DPEHPK3PXP" {
		t.Errorf("opened with the key as it was kept: %q, %v", got, err)
	}
	other, err := Load(filepath.Join(t.TempDir(), "other.key"), "")
	if err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{"not base64": "***", "damaged": sealed[:len(sealed)-8], "nothing": ""} {
		if got, err := key.Open(text); err == nil {
			t.Errorf("%s gives %q", name, got)
		}
	}
	if got, err := other.Open(sealed); err == nil {
		t.Errorf("another key gives %q", got)
	}
	if err := os.WriteFile(file, []byte("AGE-SECRET-KEY-1XYZ"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Load(file, ""); err == nil || strings.Contains(err.Error(), "1XYZ") {
		t.Errorf("a key file that is none: %v", err)
	}
}

// TestSecretsOfOwners seals secrets of laptops: each is opened for its laptop alone.
func TestSecretsOfOwners(t *testing.T) {
	file := filepath.Join(t.TempDir(), "seal.key")
	key, err := Load(file, "")
	if err != nil {
		t.Fatal(err)
	}
	sealed := key.SealFor("LT-1", "a secret")
	if strings.Contains(sealed, "a secret") || !IsSealedFor(sealed) || IsSealedFor("a secret") || sealed == key.SealFor("LT-1", "a secret") {
		t.Errorf("sealed: %q", sealed)
	}
	again, err := Load(file, "")
	if err != nil {
		t.Fatal(err)
	}
	if got, err := again.OpenFor("LT-1", sealed); err != nil || got != "a secret" {
		t.Errorf("opened with the key as it was kept: %q, %v", got, err)
	}
	other, err := Load(filepath.Join(t.TempDir(), "other.key"), "")
	if err != nil {
		t.Fatal(err)
	}
	if got, err := other.OpenFor("LT-1", sealed); err == nil {
		t.Errorf("another key gives %q", got)
	}
	for what, try := range map[string][2]string{
		"another laptop":   {"LT-2", sealed},
		"altered":          {"LT-1", sealed[:len(sealed)-2] + "AA"},
		"cut":              {"LT-1", sealed[:12]},
		"not sealed":       {"LT-1", "a secret"},
		"nothing":          {"LT-1", ""},
		"no base64":        {"LT-1", "owned:***"},
		"only the prefix":  {"LT-1", "owned:"},
		"the other's form": {"LT-1", strings.TrimPrefix(sealed, "owned:")},
	} {
		if got, err := key.OpenFor(try[0], try[1]); err == nil {
			t.Errorf("%s gives %q", what, got)
		}
	}
}

// TestAKeyWithAPassphrase encrypts the key file, one that is new and one that was there before.
func TestAKeyWithAPassphrase(t *testing.T) {
	const passphrase = "a lantern on the quay"
	for _, before := range []string{"nothing", "a key"} {
		file := filepath.Join(t.TempDir(), "seal.key")
		if before == "a key" {
			if _, err := Load(file, ""); err != nil {
				t.Fatal(err)
			}
		}
		key, err := Load(file, passphrase)
		if err != nil {
			t.Fatalf("over %s: %v", before, err)
		}
		data, err := os.ReadFile(file)
		if err != nil || !strings.HasPrefix(string(data), "age-encryption.org/v1\n-> scrypt ") ||
			strings.Contains(string(data), "AGE-SECRET-KEY") {
			t.Errorf("over %s: the key file is %.60q, %v", before, data, err)
		}
		if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("over %s: the key file has %v, %v", before, info.Mode(), err)
		}
		sealed, err := key.Seal("JBSWY3DPEHPK3PXP")
		if err != nil {
			t.Fatal(err)
		}
		again, err := Load(file, passphrase)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := again.Open(sealed); err != nil || got != "JBSWY3DPEHPK3PXP" {
			t.Errorf("over %s: opened %q, %v", before, got, err)
		}
		for _, wrong := range []string{"", "a lantern on the pier"} {
			if _, err := Load(file, wrong); err == nil || strings.Contains(err.Error(), "lantern") {
				t.Errorf("over %s: the passphrase %q gives %v", before, wrong, err)
			}
		}
		if after, err := os.ReadFile(file); err != nil || string(after) != string(data) {
			t.Errorf("over %s: reading the key altered its file", before)
		}
	}
}
