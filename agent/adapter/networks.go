package adapter

import (
	"crypto/sha256"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"zenithridge.example/zridge/core/setting"
)

const (
	connections   = "/etc/NetworkManager/system-connections/zridge-"
	networkRoots  = "/etc/zridge-agent/network-issuers/"
	wirelessID    = "network.wireless"
	wiredID       = "network.wired_authentication"
	accessPointID = "network.access_points"
)

// networks is the connections of NetworkManager that policies describe. Those of the company are in its zone "work",
// by which the firewall knows them.
func networks(h *Host) Adapter {
	return &bundle{
		host: h, name: "networks", ids: []setting.ID{wirelessID, wiredID, accessPointID},
		files: func(h *Host, wanted values) (map[string]file, error) {
			files := map[string]file{}
			for _, row := range wanted[wirelessID].Rows() {
				if err := wireless(h, row, files); err != nil {
					return nil, refused(err, wirelessID, wanted)
				}
			}
			for _, row := range wanted[accessPointID].Rows() {
				name := row["operator"].Text()
				if strings.ContainsAny(name, "\n\r\x00") {
					return nil, refused(errNoSuch, accessPointID, wanted)
				}
				add(files, "gsm", name, true, "", fmt.Sprintf("[gsm]\napn=%s\nhome-only=%t\n", row["name"].Text(), !row["roaming"].Bool()))
			}
			switch v, is := wanted[wiredID]; v.Text() {
			case "device-certificate":
				tls, err := certificateOf(h, "")
				if err != nil {
					return nil, refused(err, wiredID, wanted)
				}
				add(files, "802-3-ethernet", "Company network by cable", true, "work", tls)
			case "none":
				add(files, "802-3-ethernet", "Network by cable", true, "", "")
			default:
				if is {
					return nil, refused(errNoSuch, wiredID, wanted)
				}
			}
			return files, nil
		},
		after: func(h *Host, _ map[string]file) error { return h.run("nmcli", "connection", "reload") },
	}
}

// errNoSuch says that NetworkManager has no such connection.
var errNoSuch = errors.New("no such connection")

func refused(err error, id setting.ID, wanted values) error {
	if errors.Is(err, errNoSuch) {
		return &ValueError{id, wanted[id]}
	}
	return err
}

// add adds the file of a connection. Its name and its UUID follow from what it connects to.
func add(files map[string]file, kind, name string, joins bool, zone, rest string) {
	sum := sha256.Sum256([]byte(kind + "\x00" + name))
	text := heading + fmt.Sprintf("[connection]\nid=%s\nuuid=%x-%x-%x-%x-%x\ntype=%s\nautoconnect=%t\n",
		strings.ReplaceAll(name, `\`, `\\`), sum[:4], sum[4:6], sum[6:8], sum[8:10], sum[10:16], kind, joins)
	if zone != "" {
		text += "zone=" + zone + "\n"
	}
	files[fmt.Sprintf("%s%x.nmconnection", connections, sum[:6])] = file{text: text + "\n" + rest, mode: 0o600}
}

// wireless adds the connection of a wireless network, and the issuer of its server's certificate.
func wireless(h *Host, row setting.Row, files map[string]file) error {
	name := row["name"].Text()
	if name == "" || len(name) > 32 || strings.ContainsAny(name, "\n\r\x00;") {
		return errNoSuch
	}
	issuer := ""
	if f := row["trusted_issuer"]; f.Kind() == setting.FileKind {
		if !sum.MatchString(f.File().SHA256) {
			return errNoSuch
		}
		data, err := h.content(f)
		if err != nil {
			return err
		}
		text, err := inPEM([]byte(data))
		if err != nil {
			return errNoSuch
		}
		issuer = networkRoots + f.File().SHA256 + ".pem"
		files[issuer] = file{text: string(text)}
	}
	rest := "[wifi]\nmode=infrastructure\nssid=" + strings.ReplaceAll(name, `\`, `\\`) + "\n"
	if row["hidden"].Bool() {
		rest += "hidden=true\n"
	}
	zone := "work"
	switch row["authentication"].Text() {
	case "open":
		zone = ""
	case "personal": // the person is asked for the password, and keeps it
		rest += "\n[wifi-security]\nkey-mgmt=wpa-psk\npsk-flags=1\n"
	case "enterprise-password":
		rest += "\n[wifi-security]\nkey-mgmt=wpa-eap\n\n[802-1x]\neap=peap;\nphase2-auth=mschapv2\npassword-flags=1\n" + issuerLine(issuer)
	case "enterprise-certificate":
		tls, err := certificateOf(h, issuer)
		if err != nil {
			return err
		}
		rest += "\n[wifi-security]\nkey-mgmt=wpa-eap\n\n" + tls
	default:
		return errNoSuch
	}
	add(files, "wifi", name, row["join"].Bool(), zone, rest)
	return nil
}

// issuerLine names the authority that the network's server must have its certificate from: without one that the
// system trusts counts.
func issuerLine(issuer string) string {
	if issuer == "" {
		return "system-ca-certs=true\n"
	}
	return "ca-cert=" + issuer + "\n"
}

// certificateOf gives the section by which the laptop proves itself with its own certificate.
func certificateOf(h *Host, issuer string) (string, error) {
	data, err := os.ReadFile(filepath.Join(h.Identity, "certificate.pem"))
	if errors.Is(err, fs.ErrNotExist) {
		return "", errNoSuch // a laptop without a certificate
	}
	if err != nil {
		return "", err
	}
	block, _ := pem.Decode(data)
	if block == nil {
		return "", errNoSuch
	}
	certificate, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("[802-1x]\neap=tls;\nidentity=%s\nclient-cert=%s\nprivate-key=%s\nprivate-key-password-flags=4\n%s",
		certificate.Subject.CommonName, filepath.Join(h.Identity, "certificate.pem"), filepath.Join(h.Identity, "key.pem"),
		issuerLine(issuer)), nil
}
