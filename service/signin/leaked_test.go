package signin_test

import (
	"crypto/sha1"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/service/signin"
)

// listOf writes a list of leaked passwords, with a line's end of one's choice.
func listOf(t *testing.T, passwords []string, line func(hash string, i int) string) string {
	t.Helper()
	lines := make([]string, len(passwords))
	for i, p := range passwords {
		lines[i] = fmt.Sprintf("%X", sha1.Sum([]byte(p)))
	}
	slices.Sort(lines)
	for i := range lines {
		lines[i] = line(lines[i], i)
	}
	path := filepath.Join(t.TempDir(), "leaked.txt")
	if err := os.WriteFile(path, []byte(strings.Join(lines, "")), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// TestLeakedPasswordsAreFound looks every password of a list up, and as many others, in lists with lines of
// different lengths and ends.
func TestLeakedPasswordsAreFound(t *testing.T) {
	t.Parallel()
	for name, line := range map[string]func(string, int) string{
		"hashes alone": func(h string, _ int) string { return h + "\n" },
		"with counts":  func(h string, i int) string { return fmt.Sprintf("%s:%d\r\n", h, i*i*i) },
		"lower case":   func(h string, _ int) string { return strings.ToLower(h) + "\n" },
		"without an end": func(h string, i int) string {
			if i == 0 {
				return h
			}
			return "\n" + h
		},
	} {
		for _, n := range []int{1, 2, 3, 1000} {
			passwords := make([]string, n)
			for i := range passwords {
				passwords[i] = fmt.Sprint("lantern ", i)
			}
			list, err := signin.OpenLeakedPasswords(listOf(t, passwords, line))
			if err != nil {
				t.Fatalf("%s, %d: %v", name, n, err)
			}
			defer list.Close()
			for i, p := range passwords {
				if is, err := list.Has(p); err != nil || !is {
					t.Fatalf("%s, %d: %q is not found: %v", name, n, p, err)
				}
				if is, err := list.Has(fmt.Sprint("buoy ", i)); err != nil || is {
					t.Fatalf("%s, %d: another one is found: %v", name, n, err)
				}
			}
		}
	}
}

// TestAListOfAnotherForm is refused, at the start or when a bad line is met.
func TestAListOfAnotherForm(t *testing.T) {
	t.Parallel()
	good := strings.Repeat("A", 40)
	for name, text := range map[string]string{
		"empty": "", "passwords": "secret\nlantern\n", "another hash": strings.Repeat("A", 64) + "\n",
		"not sorted": strings.Repeat("B", 40) + "\n" + good + "\n", "a long line": strings.Repeat("A", 500),
	} {
		path := filepath.Join(t.TempDir(), "leaked.txt")
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if list, err := signin.OpenLeakedPasswords(path); err == nil {
			list.Close()
			t.Errorf("%s was taken", name)
		}
	}
	if _, err := signin.OpenLeakedPasswords(filepath.Join(t.TempDir(), "none")); err == nil {
		t.Error("a file that is not there was taken")
	}
}

// TestCommonPasswordsAreRefused tries passwords that zxcvbn takes and that many people had, and one
// that is like them.
func TestCommonPasswordsAreRefused(t *testing.T) {
	t.Parallel()
	d, _, _ := desk(t)
	n := 0
	for password, refused := range map[string]bool{
		"334ZiEuF3u4dA": true, "whateverusernotloggedin": true, "zjohbyzwovqaalrk6f2islgv": true, "windows.apps.winsock.mail": true,
		"334ZiEuF3u4dB": false, "a survey of quiet harbours": false,
	} {
		var invalid *signin.InvalidError
		n++
		err := d.AddAccount(t.Context(), root, signin.NewAccount{Name: fmt.Sprint("a", n), Password: password, Role: access.Reader, Chosen: true})
		if is := errors.As(err, &invalid); is != refused || !refused && err != nil {
			t.Errorf("%q: %v", password, err)
		}
	}
}
