package adapter

import (
	"bytes"
	"encoding/pem"
	"errors"
	"io/fs"
	"os"
	"strings"

	"zenithridge.example/zridge/core/setting"
)

const (
	neverValue   = "trust.never"
	chosenRoots  = "/etc/ca-certificates.conf"        // which certificates of packages are trusted, one a line
	packageRoots = "/usr/share/ca-certificates/"      // those certificates
	notChosen    = "!"                                // before the line of one that is not
	neverFolder  = "/etc/zridge-agent/never-trusted/" // a file for each certificate that is refused
)

// neverTrusted is the certificates that are refused (ca-certificates): those that came with packages are not chosen,
// and those that a policy trusts are left out. Where the certificate got into the bundle in another way, it is
// reported that the setting is not in force.
func neverTrusted(h *Host) Adapter {
	b := neverBundle(h)
	b.after = func(h *Host, _ map[string]file) error {
		refused, err := neverSums(h)
		if err != nil {
			return err
		}
		for name := range refused {
			if err := h.remove(rootsFolder + rootsPrefix + name[:16] + ".crt"); err != nil {
				return err
			}
		}
		return h.run("update-ca-certificates", "--fresh")
	}
	b.force = func(h *Host, wanted values) (bool, error) {
		bundle, _, err := h.read(rootsBundle)
		for _, row := range wanted[neverValue].Rows() {
			data, missing := h.content(row["certificate"])
			text, broken := inPEM([]byte(data))
			if err != nil || missing != nil || broken != nil || strings.Contains(bundle, strings.TrimSpace(string(text))) {
				return false, err
			}
		}
		return true, nil
	}
	return b
}

func neverBundle(h *Host) *bundle {
	return &bundle{
		host: h, name: "never", ids: []setting.ID{neverValue},
		files: func(h *Host, wanted values) (map[string]file, error) {
			v, is := wanted[neverValue]
			if !is {
				return nil, nil
			}
			files := map[string]file{}
			var refused [][]byte
			for _, row := range v.Rows() {
				name := row["certificate"].File().SHA256
				if !sum.MatchString(name) {
					return nil, &ValueError{neverValue, v}
				}
				data, err := h.content(row["certificate"])
				if err != nil {
					return nil, err
				}
				text, err := inPEM([]byte(data))
				if err != nil {
					return nil, &ValueError{neverValue, v}
				}
				refused = append(refused, text)
				files[neverFolder+name+".pem"] = file{text: string(text)}
			}
			text, _, known, err := h.before(chosenRoots)
			if !known && err == nil {
				text, _, err = h.read(chosenRoots)
			}
			if err != nil {
				return nil, err
			}
			chosen, err := without(h, text, refused)
			files[chosenRoots] = file{text: chosen}
			return files, err
		},
	}
}

// without gives the list of chosen certificates without some.
func without(h *Host, list string, refused [][]byte) (string, error) {
	var out strings.Builder
	for line := range strings.Lines(list) {
		name := strings.TrimSpace(line)
		if name != "" && !strings.HasPrefix(name, "#") && !strings.HasPrefix(name, notChosen) {
			data, err := os.ReadFile(h.At(packageRoots + name))
			if err != nil && !errors.Is(err, fs.ErrNotExist) {
				return "", err
			}
			if block, _ := pem.Decode(data); block != nil {
				for _, r := range refused {
					if bytes.Equal(bytes.TrimSpace(r), bytes.TrimSpace(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: block.Bytes}))) {
						line = notChosen + line
						break
					}
				}
			}
		}
		out.WriteString(line)
	}
	return out.String(), nil
}

// neverSums gives the files with certificates that are refused, by their SHA-256.
func neverSums(h *Host) (map[string]bool, error) {
	s, err := neverBundle(h).state()
	out := map[string]bool{}
	for _, path := range s.Paths {
		if name, is := strings.CutPrefix(path, neverFolder); is {
			out[strings.TrimSuffix(name, ".pem")] = true
		}
	}
	return out, err
}
