package seal

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestSecretsAreSealed(t *testing.T) {
	file := filepath.Join(t.TempDir(), "seal.key")
	key, err := Load(file)
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
	again, err := Load(file)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := again.Open(sealed); err != nil || got != "JBSWY3DPEHPK3PXP" {
		t.Errorf("opened with the key as it was kept: %q, %v", got, err)
	}
	other, err := Load(filepath.Join(t.TempDir(), "other.key"))
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
	if _, err := Load(file); err == nil || strings.Contains(err.Error(), "1XYZ") {
		t.Errorf("a key file that is none: %v", err)
	}
}
