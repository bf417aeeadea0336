package adapter

import (
	"bytes"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"zenithridge.example/zridge/core/setting"
)

const (
	rootsFolder = "/usr/local/share/ca-certificates/"
	rootsPrefix = "zridge-"
	rootsBundle = "/etc/ssl/certs/ca-certificates.crt"
	rootsValue  = "trust.machine_roots"
)

// roots is the certificates that everything on the laptop trusts (ca-certificates). It is an Adapter.
type roots struct{ host *Host }

func trustedRoots(h *Host) Adapter { return &roots{h} }

func (r *roots) Settings() []setting.ID { return []setting.ID{rootsValue} }

// sum is a SHA-256 as it names a file: nothing else leads to a path.
var sum = regexp.MustCompile(`^[0-9a-f]{64}$`)

// certificates gives the certificates of a value as the files of ca-certificates: by name, in PEM.
func (r *roots) certificates(v setting.Value) (map[string][]byte, error) {
	never, err := neverSums(r.host)
	if err != nil {
		return nil, err
	}
	out := map[string][]byte{}
	for _, row := range v.Rows() {
		f := row["certificate"].File()
		if !sum.MatchString(f.SHA256) {
			return nil, &ValueError{rootsValue, v}
		}
		if never[f.SHA256] {
			continue
		}
		data, err := os.ReadFile(filepath.Join(r.host.Files, f.SHA256))
		if err != nil {
			return nil, err
		}
		text, err := inPEM(data)
		if err != nil {
			return nil, &ValueError{rootsValue, v}
		}
		out[rootsPrefix+f.SHA256[:16]+".crt"] = text
	}
	return out, nil
}

// inPEM gives certificates, which come in PEM or in DER, in PEM.
func inPEM(data []byte) ([]byte, error) {
	if block, _ := pem.Decode(data); block == nil {
		data = pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: data})
	}
	var out bytes.Buffer
	for rest := data; ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		if _, err := x509.ParseCertificate(block.Bytes); err != nil {
			return nil, err
		}
		if err := pem.Encode(&out, &pem.Block{Type: "CERTIFICATE", Bytes: block.Bytes}); err != nil {
			return nil, err
		}
	}
	return out.Bytes(), nil
}

// Read gives the value that was applied where all of its certificates, and no others of ours, are there and in the
// bundle that programs read.
func (r *roots) Read(setting.ID) (setting.Value, error) {
	text, _, known, err := r.host.before(rootsValue)
	if err != nil || !known {
		return setting.Value{}, err
	}
	var v setting.Value
	if err := json.Unmarshal([]byte(text), &v); err != nil {
		return v, err
	}
	wanted, err := r.certificates(v)
	if err != nil {
		return setting.Value{}, nil // a file is gone: it cannot be put right without it
	}
	there, err := r.ours()
	if err != nil || len(there) != len(wanted) {
		return setting.Value{}, err
	}
	bundle, _, err := r.host.read(rootsBundle)
	if err != nil {
		return setting.Value{}, err
	}
	for name, data := range wanted {
		is, _, err := r.host.read(rootsFolder + name)
		if err != nil || is != string(data) {
			return setting.Value{}, err
		}
		if r.host.Command != nil && !strings.Contains(bundle, strings.TrimSpace(string(data))) {
			return setting.Value{}, nil
		}
	}
	return v, nil
}

// ours lists the files of ca-certificates that are ours.
func (r *roots) ours() (names []string, err error) {
	list, err := os.ReadDir(r.host.At(rootsFolder))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for _, e := range list {
		if strings.HasPrefix(e.Name(), rootsPrefix) {
			names = append(names, e.Name())
		}
	}
	return names, nil
}

func (r *roots) Apply(_ setting.ID, v setting.Value) error {
	wanted, err := r.certificates(v)
	if err != nil {
		return err
	}
	text, err := json.Marshal(v)
	if err != nil {
		return err
	}
	if err := r.replace(wanted); err != nil {
		return err
	}
	if err := r.host.forget(rootsValue); err != nil {
		return err
	}
	return r.host.keep(rootsValue, string(text), true)
}

func (r *roots) Withdraw(setting.ID) error {
	if err := r.replace(nil); err != nil {
		return err
	}
	return r.host.forget(rootsValue)
}

// replace puts certificates in the place of ours, and lets the system make its bundle anew.
func (r *roots) replace(wanted map[string][]byte) error {
	there, err := r.ours()
	if err != nil || len(there)+len(wanted) == 0 {
		return err
	}
	for _, name := range there {
		if wanted[name] == nil {
			if err := r.host.remove(rootsFolder + name); err != nil {
				return err
			}
		}
	}
	for name, data := range wanted {
		if err := r.host.write(rootsFolder+name, string(data), 0o644); err != nil {
			return err
		}
	}
	return r.host.run("update-ca-certificates", "--fresh") // without it, links to what is gone would stay
}
