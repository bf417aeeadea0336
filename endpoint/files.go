// This file fetches the files that values name.

package endpoint

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"net/http"
	"time"

	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/syncml"
)

const (
	maxFetched  = 1 << 30
	fetchWithin = 2 * time.Minute
)

// fetch gets every file that a value names, once, and compares it with the SHA-256 by which it is
// named. It gives a status code of the protocol: a file that can't be had or is another one fails
// the setting.
func (l *Laptop) fetch(v setting.Value) string {
	code := syncml.OK
	v.EachFile(func(_ []any, f setting.File) {
		if code == syncml.OK && !l.files[f.SHA256] {
			code = l.fetchFile(f)
		}
	})
	return code
}

func (l *Laptop) fetchFile(f setting.File) string {
	ctx, cancel := context.WithTimeout(context.Background(), fetchWithin)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, l.base+"/dm/files/"+f.SHA256, nil)
	if err != nil {
		return syncml.BadRequest
	}
	l.prove(r)
	answer, err := l.http.Do(r)
	if err != nil {
		return syncml.Failed
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return syncml.NotFound
	}
	h := sha256.New()
	if _, err := io.Copy(h, io.LimitReader(answer.Body, maxFetched)); err != nil {
		return syncml.Failed
	}
	if hex.EncodeToString(h.Sum(nil)) != f.SHA256 {
		return syncml.SizeMismatch
	}
	if l.files == nil {
		l.files = map[string]bool{}
	}
	l.files[f.SHA256] = true
	return syncml.OK
}
