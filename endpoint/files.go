// This file fetches the files that values name.

package endpoint

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"hash"
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
		keeper, keeps := l.Platform.(Keeper)
		if code == syncml.OK && !(l.files[f.SHA256] || keeps && keeper.HasFile(f.SHA256)) {
			code = l.fetchFile(f)
		}
	})
	return code
}

var errOtherFile = errors.New("it is another file")

// hashed reads a file, and ends with an error where it is not the one with a SHA-256.
type hashed struct {
	from io.Reader
	sum  hash.Hash
	want string
}

func (h *hashed) Read(p []byte) (int, error) {
	n, err := h.from.Read(p)
	h.sum.Write(p[:n])
	if err == io.EOF && hex.EncodeToString(h.sum.Sum(nil)) != h.want {
		err = errOtherFile
	}
	return n, err
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
	right := &hashed{from: io.LimitReader(answer.Body, maxFetched), sum: sha256.New(), want: f.SHA256}
	if keeper, can := l.Platform.(Keeper); can {
		err = keeper.KeepFile(f.SHA256, right)
	} else {
		_, err = io.Copy(io.Discard, right)
	}
	switch {
	case errors.Is(err, errOtherFile):
		return syncml.SizeMismatch
	case err != nil:
		return syncml.Failed
	}
	if l.files == nil {
		l.files = map[string]bool{}
	}
	l.files[f.SHA256] = true
	return syncml.OK
}
