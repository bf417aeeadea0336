// This file computes credentials (OMA-TS-DM_Security 1.2, section 5.3: MD5 authentication) and what
// authenticates a whole message (section 5.4: HMAC).

package syncml

import (
	"crypto/md5"
	"encoding/base64"
	"fmt"
	"strings"
)

// UserDigest is B64(MD5(user ":" secret)): all that the service needs to keep of a secret.
func UserDigest(user, secret string) string {
	sum := md5.Sum([]byte(user + ":" + secret))
	return base64.StdEncoding.EncodeToString(sum[:])
}

// Digest is the data of credentials: B64(MD5(userDigest ":" nonce)), the nonce as raw bytes.
func Digest(userDigest string, nonce []byte) string {
	sum := md5.Sum(append([]byte(userDigest+":"), nonce...))
	return base64.StdEncoding.EncodeToString(sum[:])
}

// MACHeader is the header of a request that authenticates its message.
const MACHeader = "x-syncml-hmac"

// MAC is what authenticates a message: B64(MD5(userDigest ":" nonce ":" B64(MD5(message)))), the
// nonce as raw bytes and the message as it is sent.
func MAC(userDigest string, nonce, message []byte) string {
	sum := md5.Sum(message)
	of := append([]byte(userDigest+":"), nonce...)
	of = append(of, ':')
	of = append(of, base64.StdEncoding.EncodeToString(sum[:])...)
	sum = md5.Sum(of)
	return base64.StdEncoding.EncodeToString(sum[:])
}

// FormatMAC writes the value of MACHeader.
func FormatMAC(user, mac string) string {
	return fmt.Sprintf(`algorithm=MD5, username="%s", mac=%s`, user, mac)
}

// ParseMAC reads the value of MACHeader. The algorithm may be left out. ok is false where the value
// is not of this form, has something twice, or another algorithm.
func ParseMAC(value string) (user, mac string, ok bool) {
	parts := map[string]string{}
	for part := range strings.SplitSeq(value, ",") {
		name, text, found := strings.Cut(strings.TrimSpace(part), "=")
		name = strings.ToLower(strings.TrimSpace(name))
		if _, twice := parts[name]; !found || twice {
			return "", "", false
		}
		text = strings.TrimSpace(text)
		if inner, quoted := strings.CutPrefix(text, `"`); quoted {
			if text, quoted = strings.CutSuffix(inner, `"`); !quoted {
				return "", "", false
			}
		}
		parts[name] = text
	}
	algorithm, named := parts["algorithm"]
	if named && !strings.EqualFold(algorithm, "MD5") || parts["username"] == "" || parts["mac"] == "" {
		return "", "", false
	}
	return parts["username"], parts["mac"], true
}
