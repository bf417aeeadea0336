// Package volume reads and writes the headers of encrypted volumes (LUKS2) through cryptsetup: key slots, tokens, methods.
//
// It decides nothing: package agent says which key goes where, and when. Keys are given to cryptsetup in
// memory, and are never in arguments or in files on a disk. A volume may be a block device or a file.
//
// Source of the facts: LUKS2 On-Disk Format Specification 1.1.1; cryptsetup(8) of version 2.6.
package volume

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// Tool runs cryptsetup.
type Tool struct {
	// Chip is the security chip as systemd-cryptenroll names it; empty: the machine's own.
	Chip string
}

// randomKeys says how costly it is to try a key: not at all. The keys that this package is given have at least 128 random
// bits, which nobody tries. So a start of the system does not wait for them, and needs no memory for them.
var randomKeys = []string{"--pbkdf", "pbkdf2", "--pbkdf-force-iterations", "1000"}

// Types of tokens in a header.
const (
	RecoveryToken = "zridge-recovery" // names the recovery key of its slot
	AgentToken    = "zridge-agent"    // its slot opens with the agent's own key
	chipToken     = "systemd-tpm2"
)

// Token is a token of a header. Its fields are those of the token types of this package; others are kept by whoever made
// them.
type Token struct {
	ID         int       `json:"-"`
	Type       string    `json:"type"`
	Slots      []string  `json:"keyslots"`
	Identifier string    `json:"identifier,omitempty"` // of a recovery key
	MadeAt     time.Time `json:"made_at,omitzero"`
	Recipients []string  `json:"recipients,omitempty"` // to which the recovery key was sealed
	Elsewhere  bool      `json:"elsewhere,omitempty"`  // it is stored at an address of the company
	PIN        bool      `json:"tpm2-pin,omitempty"`   // the chip asks for a PIN
}

// Slot is a key slot of a header.
type Slot struct {
	Number int
	KDF    string // argon2id, argon2i, pbkdf2
}

// Header is the header of an encrypted volume.
type Header struct {
	Slots        []Slot // by number
	Tokens       []Token
	Cipher       string // such as aes-xts-plain64
	KeyBits      int
	Reencrypting bool // it is being encrypted, or was when that was interrupted
}

var (
	// ErrPlain says that a volume has no header.
	ErrPlain = errors.New("the volume is not encrypted")
	// ErrOldHeader says that a volume has a header of the first version.
	ErrOldHeader = errors.New("the volume has an old header (LUKS1), which has no tokens: convert it with cryptsetup convert --type luks2")
)

// Read reads the header of a volume.
func (t *Tool) Read(ctx context.Context, path string) (*Header, error) {
	text, err := t.run(ctx, nil, "luksDump", "--dump-json-metadata", path)
	if err == nil {
		return parse(text)
	}
	if _, missing := os.Stat(path); missing != nil {
		return nil, missing
	}
	if _, err := t.run(ctx, nil, "isLuks", "--type", "luks1", path); err == nil {
		return nil, ErrOldHeader
	}
	var failed *exec.ExitError
	if _, is := t.run(ctx, nil, "isLuks", path); errors.As(is, &failed) && failed.ExitCode() == 1 {
		return nil, ErrPlain
	}
	return nil, err
}

func parse(text []byte) (*Header, error) {
	var in struct {
		Keyslots map[string]struct {
			Type    string
			KeySize int `json:"key_size"`
			KDF     struct{ Type string }
		}
		Tokens   map[string]Token
		Segments map[string]struct{ Type, Encryption string }
		Config   struct{ Requirements struct{ Mandatory []string } }
	}
	if err := json.Unmarshal(text, &in); err != nil {
		return nil, fmt.Errorf("reading the header of a volume: %w", err)
	}
	h := &Header{}
	for name, s := range in.Keyslots {
		n, err := strconv.Atoi(name)
		if err != nil {
			return nil, fmt.Errorf("reading the header of a volume: found the key slot %.20q", name)
		}
		if s.Type != "luks2" { // what is moved while a volume is being encrypted
			h.Reencrypting = true
			continue
		}
		h.Slots, h.KeyBits = append(h.Slots, Slot{n, s.KDF.Type}), 8*s.KeySize
	}
	for name, token := range in.Tokens {
		n, err := strconv.Atoi(name)
		if err != nil {
			return nil, fmt.Errorf("reading the header of a volume: found the token %.20q", name)
		}
		token.ID = n
		h.Tokens = append(h.Tokens, token)
	}
	for _, s := range in.Segments {
		if s.Type == "crypt" {
			h.Cipher = s.Encryption
		}
	}
	for _, m := range in.Config.Requirements.Mandatory {
		h.Reencrypting = h.Reencrypting || strings.Contains(m, "reencrypt")
	}
	slices.SortFunc(h.Slots, func(a, b Slot) int { return a.Number - b.Number })
	slices.SortFunc(h.Tokens, func(a, b Token) int { return a.ID - b.ID })
	return h, nil
}

// Recovery gives the tokens of recovery keys that have a slot.
func (h *Header) Recovery() (out []Token) {
	for _, t := range h.Tokens {
		if t.Type == RecoveryToken && len(t.Slots) > 0 {
			out = append(out, t)
		}
	}
	return out
}

// Token gives the first token of a type that has a slot; nil: there is none.
func (h *Header) Token(kind string) *Token {
	at := slices.IndexFunc(h.Tokens, func(t Token) bool { return t.Type == kind && len(t.Slots) > 0 })
	if at < 0 {
		return nil
	}
	return &h.Tokens[at]
}

// Slot gives the number of the slot of a token; -1: it has none.
func (t *Token) Slot() int {
	if len(t.Slots) == 0 {
		return -1
	}
	n, err := strconv.Atoi(t.Slots[0])
	if err != nil {
		return -1
	}
	return n
}

// People gives the slots that are neither the agent's nor a recovery key's nor the chip's: passphrases of people.
func (h *Header) People() (out []Slot) {
	for _, s := range h.Slots {
		if !slices.ContainsFunc(h.Tokens, func(t Token) bool { return slices.Contains(t.Slots, strconv.Itoa(s.Number)) }) {
			out = append(out, s)
		}
	}
	return out
}

// Startup lists what opens the volume at the start of the system: passphrase, chip, pin.
func (h *Header) Startup() (out []string) {
	if len(h.People()) > 0 {
		out = append(out, "passphrase")
	}
	for _, t := range h.Tokens {
		word := "chip"
		if t.PIN {
			word = "pin"
		}
		if t.Type == chipToken && len(t.Slots) > 0 && !slices.Contains(out, word) {
			out = append(out, word)
		}
	}
	return out
}

// methods are the methods of the dictionary, the weakest first.
var methods = []struct {
	name, cipher string
	bits         int
}{
	{"aes-cbc-128", "aes-cbc-essiv:sha256", 128},
	{"aes-cbc-256", "aes-cbc-essiv:sha256", 256},
	{"aes-xts-128", "aes-xts-plain64", 256}, // two keys of 128 bits
	{"aes-xts-256", "aes-xts-plain64", 512},
}

// Method gives the method as the dictionary names it; another one by its cipher and the bits of its key.
func (h *Header) Method() string {
	for _, m := range methods {
		if m.cipher == h.Cipher && m.bits == h.KeyBits {
			return m.name
		}
	}
	return fmt.Sprintf("%s, %d bits", h.Cipher, h.KeyBits)
}

// Weaker tells whether a method of the dictionary is weaker than another; one that is not of the dictionary is not.
func Weaker(is, wanted string) bool {
	at := func(name string) int {
		for i, m := range methods {
			if m.name == name {
				return i
			}
		}
		return -1
	}
	return at(is) >= 0 && at(wanted) >= 0 && at(is) < at(wanted)
}

func methodArguments(method string) []string {
	for _, m := range methods {
		if m.name == method {
			return []string{"--cipher", m.cipher, "--key-size", strconv.Itoa(m.bits)}
		}
	}
	return nil // cryptsetup's own choice
}

// IsBlank tells whether nothing is on a volume that has no header: no file system, no table of partitions, no data.
func (t *Tool) IsBlank(ctx context.Context, path string) (bool, error) {
	if known, err := t.IsKnown(ctx, path); known || err != nil {
		return false, err
	}
	return beginsWithZeroes(path)
}

// IsKnown tells whether a volume that has no header has a file system or a table of partitions. What an interrupted Format
// left has neither.
func (t *Tool) IsKnown(ctx context.Context, path string) (bool, error) {
	said, err := exec.CommandContext(ctx, "blkid", "--probe", "--output", "export", path).Output()
	var failed *exec.ExitError
	if errors.As(err, &failed) && failed.ExitCode() == 2 { // nothing is known of it
		return false, nil
	}
	return !bytes.Contains(said, []byte("TYPE=crypto_LUKS")), err
}

// beginsWithZeroes tells whether the first MiB of a volume is zeroes: what has no file system may be data all the same.
func beginsWithZeroes(path string) (bool, error) {
	f, err := os.Open(path)
	if err != nil {
		return false, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, 1<<20))
	return len(bytes.Trim(data, "\x00")) == 0, err
}

// Format makes an empty encrypted volume of a blank one. The key is in slot 0.
func (t *Tool) Format(ctx context.Context, path, uuid, method string, key []byte) error {
	arguments := slices.Concat([]string{"luksFormat", "--batch-mode", "--type", "luks2", "--uuid", uuid, "--key-slot", "0"},
		methodArguments(method), randomKeys, []string{path})
	_, err := t.run(ctx, [][]byte{key}, arguments...)
	return err
}

// headerRoom is how much of a volume its header takes when it is encrypted in place.
const headerRoom = 32 << 20

// Encrypt encrypts a volume in place, with what is on it: a file system of the ext family, which is made smaller first and
// must not be mounted. The key is in slot 0. It takes as long as it takes to write the volume.
func (t *Tool) Encrypt(ctx context.Context, path, uuid, method string, key []byte) error {
	if err := shrink(ctx, path); err != nil {
		return err
	}
	// The header is first made in a file of the current folder: what an interruption leaves there is in nobody's way.
	folder, err := os.MkdirTemp("", "zridge-header-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	arguments := slices.Concat([]string{
		"reencrypt", "--encrypt", "--batch-mode", "--key-file", "/dev/fd/3", "--type", "luks2", "--uuid", uuid,
		"--reduce-device-size", fmt.Sprintf("%dM", headerRoom>>20),
	}, methodArguments(method), randomKeys, []string{path})
	c := exec.CommandContext(ctx, "cryptsetup", arguments...)
	c.Dir = folder
	_, err = execute(c, [][]byte{key})
	return err
}

// Resume goes on with encrypting a volume where it was interrupted. What a loss of power left half written is put right
// first.
func (t *Tool) Resume(ctx context.Context, path string, key []byte) error {
	if _, err := t.run(ctx, [][]byte{key}, "repair", "--batch-mode", "--key-file", "/dev/fd/3", path); err != nil {
		return err
	}
	arguments := []string{"reencrypt", "--resume-only", "--batch-mode", "--key-file", "/dev/fd/3"}
	if is, err := os.Stat(path); err == nil && is.Mode().IsRegular() { // cryptsetup cannot tell whether a file is in use: this agent uses none
		arguments = append(arguments, "--force-offline-reencrypt")
	}
	_, err := t.run(ctx, [][]byte{key}, append(arguments, path)...)
	return err
}

// AddKey puts a key into a free slot, and gives its number. existing is a key that opens the volume.
func (t *Tool) AddKey(ctx context.Context, path string, existing, key []byte) (slot int, err error) {
	h, err := t.Read(ctx, path)
	if err != nil {
		return 0, err
	}
	for slot = 0; slices.ContainsFunc(h.Slots, func(s Slot) bool { return s.Number == slot }); slot++ {
	}
	arguments := slices.Concat([]string{"luksAddKey", "--batch-mode", "--new-key-slot", strconv.Itoa(slot), "--key-file",
		"/dev/fd/3"}, randomKeys, []string{path, "/dev/fd/4"})
	_, err = t.run(ctx, [][]byte{existing, key}, arguments...)
	return slot, err
}

// Opens gives the slot that a key opens; -1: none.
func (t *Tool) Opens(ctx context.Context, path string, key []byte) (slot int, err error) {
	said, err := t.run(ctx, [][]byte{key}, "open", "--test-passphrase", "--verbose", "--disable-external-tokens", "--key-file",
		"/dev/fd/3", path)
	var failed *exec.ExitError
	if errors.As(err, &failed) && failed.ExitCode() == 2 {
		return -1, nil
	}
	if err != nil {
		return -1, err
	}
	for line := range strings.Lines(string(said)) {
		var n int
		if _, err := fmt.Sscanf(strings.TrimSpace(line), "Key slot %d unlocked.", &n); err == nil {
			return n, nil
		}
	}
	return -1, fmt.Errorf("cryptsetup does not say which slot a key opens: %.200q", said)
}

// DropKey makes a key void. Another one has to open the volume.
func (t *Tool) DropKey(ctx context.Context, path string, key []byte) error {
	_, err := t.run(ctx, [][]byte{key}, "luksRemoveKey", "--batch-mode", path, "/dev/fd/3")
	return err
}

// DropSlot makes the key of a slot void. existing is the key of another slot.
func (t *Tool) DropSlot(ctx context.Context, path string, slot int, existing []byte) error {
	_, err := t.run(ctx, [][]byte{existing}, "luksKillSlot", "--batch-mode", "--key-file", "/dev/fd/3", path, strconv.Itoa(slot))
	return err
}

// AddToken adds a token.
func (t *Tool) AddToken(ctx context.Context, path string, token Token) error {
	text, err := json.Marshal(token)
	if err != nil {
		return err
	}
	_, err = t.run(ctx, [][]byte{text}, "token", "import", "--json-file", "/dev/fd/3", path)
	return err
}

// DropToken removes a token.
func (t *Tool) DropToken(ctx context.Context, path string, id int) error {
	_, err := t.run(ctx, nil, "token", "remove", "--token-id", strconv.Itoa(id), path)
	return err
}

// SealToChip lets the security chip open a volume, with a PIN where there is one. What the chip opened it with before is
// void. existing is a key that opens the volume.
func (t *Tool) SealToChip(ctx context.Context, path string, existing, pin []byte) error {
	chip := t.Chip
	if chip == "" {
		chip = "auto"
	}
	arguments := []string{"--tpm2-device=" + chip, "--tpm2-pcrs=7", "--wipe-slot=tpm2", "--unlock-key-file=/dev/fd/3"}
	c := exec.CommandContext(ctx, "systemd-cryptenroll", append(arguments, "--tpm2-with-pin="+strconv.FormatBool(len(pin) > 0), path)...)
	c.Env = append(os.Environ(), "NEWPIN="+string(pin)) // the only way besides a terminal
	_, err := execute(c, [][]byte{existing})
	return err
}

// WipeChip makes what the chip opens a volume with void.
func (t *Tool) WipeChip(ctx context.Context, path string, existing []byte) error {
	_, err := execute(exec.CommandContext(ctx, "systemd-cryptenroll", "--wipe-slot=tpm2", "--unlock-key-file=/dev/fd/3", path),
		[][]byte{existing})
	return err
}

// run runs cryptsetup with secrets as the files /dev/fd/3 and up.
func (t *Tool) run(ctx context.Context, secrets [][]byte, arguments ...string) (said []byte, err error) {
	if arguments[0] == "luksFormat" { // it takes its key as the last argument
		arguments = append(arguments, "/dev/fd/3")
	}
	return execute(exec.CommandContext(ctx, "cryptsetup", arguments...), secrets)
}

// Error is what a program said that failed.
type Error struct {
	Program string
	Said    string
	Err     error
}

func (e *Error) Error() string { return fmt.Sprintf("%s: %s", e.Program, e.Said) }

// Unwrap gives the *exec.ExitError.
func (e *Error) Unwrap() error { return e.Err }

const mostSaid = 300 // bytes

// inMemory gives a file that is in memory alone, and that other programs see only where it is handed to them. Some read
// keys from files that they can seek in, which a pipe is not.
func inMemory(data []byte) (*os.File, error) {
	n, err := unix.MemfdCreate("key", unix.MFD_CLOEXEC)
	if err != nil {
		return nil, fmt.Errorf("keeping a key in memory: %w", err)
	}
	f := os.NewFile(uintptr(n), "key")
	if _, err := f.WriteAt(data, 0); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// execute runs a program with secrets as the files /dev/fd/3 and up, and gives what it says. Its messages have no secrets.
func execute(c *exec.Cmd, secrets [][]byte) (said []byte, err error) {
	var out, faults bytes.Buffer
	c.Stdout, c.Stderr = &out, &faults
	c.WaitDelay = 5 * time.Second
	for _, secret := range secrets {
		f, err := inMemory(secret)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		c.ExtraFiles = append(c.ExtraFiles, f)
	}
	if err := c.Run(); err != nil {
		text := strings.TrimSpace(faults.String())
		return nil, &Error{c.Args[0] + " " + c.Args[1], text[:min(len(text), mostSaid)], err}
	}
	return out.Bytes(), nil
}
