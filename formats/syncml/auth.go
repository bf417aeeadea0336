// This file computes credentials (OMA-TS-DM_Security 1.2, section 5.3: MD5 authentication).

package syncml

import (
	"crypto/md5"
	"encoding/base64"
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
