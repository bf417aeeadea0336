// Package adapter puts settings into force on Debian, and reads what is in force from where it really lives.
// There is one file for each part of the system.
package adapter

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"zenithridge.example/zridge/core/setting"
)

// Adapter puts the settings of one part of the system into force.
type Adapter interface {
	// Settings lists the settings that the adapter knows.
	Settings() []setting.ID
	// Read gives what is in force; nothing where the part of the system does as it does by itself, and does not
	// say how.
	Read(id setting.ID) (setting.Value, error)
	// Apply puts a value into force. It may be called again after it was interrupted. The error is a
	// *ValueError where the part of the system has no such value.
	Apply(id setting.ID, v setting.Value) error
	// Withdraw restores what was there before the first Apply.
	Withdraw(id setting.ID) error
}

// Located is an Adapter that knows in which files its settings are.
type Located interface {
	Paths() []string
}

// Paths gives the files in which settings are, as far as their adapters know.
func Paths(h *Host, ids []setting.ID) (paths []string) {
	for _, a := range All(h) {
		where, knows := a.(Located)
		if knows && slices.ContainsFunc(a.Settings(), func(id setting.ID) bool { return slices.Contains(ids, id) }) {
			paths = append(paths, where.Paths()...)
		}
	}
	return paths
}

// ValueError says that a part of the system has no such value.
type ValueError struct {
	Setting setting.ID
	Value   setting.Value
}

func (e *ValueError) Error() string {
	return fmt.Sprintf("%s cannot be %s on this system", e.Setting, e.Value)
}

// Host is the machine that adapters work on.
type Host struct {
	Root  string // before every path; empty: the machine's own
	Keep  string // folder in which what was there before is kept
	Files string // folder with the files that values name, by their SHA-256
	// Identity is the folder with the laptop's certificate.pem and key.pem, for networks that ask for it.
	Identity string
	// Command runs a program of the machine and gives what it says; nil: none is run. The error is an
	// exec.ErrNotFound where it is not installed, or cannot be of use.
	Command func(name string, arguments ...string) (said string, err error)
}

// All gives the adapters of a host.
func All(h *Host) []Adapter {
	return []Adapter{
		browser(h), passwords(h), lockout(h), passwordAge(h), lid(h), sleep(h), journal(h), clock(h), resolver(h), screen(h),
		signInScreen(h), language(h),
		keyboard(h), banner(h), timeZone(h), hostName(h), updates(h), modules(h), trustedRoots(h),
		crashes(h), permissions(h), proxy(h), proxyServer(h), firewall(h), services(h), elevation(h), localAdministrators(h), access(h),
		history(h),
		startPrograms(h), hiddenPrograms(h), wallpaper(h), automaticSignIn(h), usb(h), mounts(h), programs(h), networks(h), neverTrusted(h),
		forwarding(h), rememberedPeople(h), batteries(h), recoveryScreen(h),
	}
}

// At gives the path of a file of the host.
func (h *Host) At(path string) string { return filepath.Join(h.Root, path) }

// read gives the text of a file; there is false where there is none.
func (h *Host) read(path string) (text string, there bool, err error) {
	data, err := os.ReadFile(h.At(path))
	if errors.Is(err, fs.ErrNotExist) {
		return "", false, nil
	}
	return string(data), err == nil, err
}

// write replaces a file as a whole: whoever reads it finds it as before or as it is to be, after a loss of power,
// too.
func (h *Host) write(path, text string, mode os.FileMode) error {
	return WriteFile(h.At(path), []byte(text), mode)
}

// rewrite replaces a file that is there, and whose owner and mode stay.
func (h *Host) rewrite(path, text string) error {
	is, err := os.Stat(h.At(path))
	if err != nil {
		return err
	}
	owner, known := is.Sys().(*syscall.Stat_t)
	if err := h.write(path, text, is.Mode().Perm()); err != nil || !known {
		return err
	}
	return os.Chown(h.At(path), int(owner.Uid), int(owner.Gid))
}

// FreshSuffix ends the name of a file that is being written, before it takes its place.
const FreshSuffix = ".zridge"

// WriteFile replaces a file as a whole, on the disk when it returns.
func WriteFile(path string, data []byte, mode os.FileMode) error {
	folder := filepath.Dir(path)
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	// What an interrupted write left has the same name: the next one takes its place.
	fresh := filepath.Join(folder, "."+filepath.Base(path)+FreshSuffix)
	f, err := os.OpenFile(fresh, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	defer os.Remove(fresh) // it is gone when all went well
	_, err = f.Write(data)
	if err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := os.Rename(fresh, path); err != nil {
		return err
	}
	d, err := os.Open(folder)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

// remove removes a file; one that is not there is removed already.
func (h *Host) remove(path string) error {
	if err := os.Remove(h.At(path)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// run runs a program that makes a part of the system read its files again. One that is not installed has nothing
// to read.
func (h *Host) run(name string, arguments ...string) error {
	if _, err := h.ask(name, arguments...); !errors.Is(err, exec.ErrNotFound) {
		return err
	}
	return nil
}

// ask runs a program of the machine and gives what it says.
func (h *Host) ask(name string, arguments ...string) (said string, err error) {
	if h.Command == nil {
		return "", nil
	}
	return h.Command(name, arguments...)
}

// kept gives where it is kept what something was before.
func (h *Host) kept(name string) string {
	return filepath.Join(h.Keep, strings.ReplaceAll(strings.Trim(name, "/"), "/", "--"))
}

// keep keeps what something was before, once: a second Apply does not take what the first wrote for it.
func (h *Host) keep(name, was string, there bool) error {
	if _, err := os.Stat(h.kept(name)); err == nil {
		return nil
	}
	mark := "absent\n"
	if there {
		mark = "present\n" + was
	}
	return WriteFile(h.kept(name), []byte(mark), 0o600)
}

// before gives what something was before; known is false where nothing was kept.
func (h *Host) before(name string) (was string, there, known bool, err error) {
	data, err := os.ReadFile(h.kept(name))
	if errors.Is(err, fs.ErrNotExist) {
		return "", false, false, nil
	}
	if was, there = strings.CutPrefix(string(data), "present\n"); !there {
		was = ""
	}
	return was, there, err == nil, err
}

// forget forgets what something was before, once it is so again.
func (h *Host) forget(name string) error {
	if err := os.Remove(h.kept(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}
