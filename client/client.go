// Package client is the typed Go client of the HTTP API. The command line and the end-to-end tests
// use it.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"zenithridge.example/zridge/formats/wire"
)

// Client calls one service with one token.
type Client struct {
	Base  string // http://127.0.0.1:8470
	Token string
	HTTP  *http.Client // nil: the default
}

// maxAnswer bounds what is read of an answer.
const maxAnswer = 256 << 20

// Stream is a body that is sent while it is read, for what is too large to hold. Its type goes
// along as the header Content-Type.
type Stream struct {
	io.Reader
	Size int64 // in bytes
}

// Call sends a request and decodes its answer. in may be nil, a []byte of JSON as it is, or a
// Stream; out may be nil. A refusal is a *wire.Problem.
func (c *Client) Call(ctx context.Context, method, path string, query url.Values, in, out any, headers ...string) (http.Header, error) {
	var body io.Reader
	switch v := in.(type) {
	case nil:
	case []byte:
		body = bytes.NewReader(v)
	case Stream:
		body = v.Reader
	default:
		data, err := json.Marshal(in)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(data)
	}
	target := strings.TrimSuffix(c.Base, "/") + "/api/v1" + path
	if len(query) > 0 {
		target += "?" + query.Encode()
	}
	r, err := http.NewRequestWithContext(ctx, method, target, body)
	if err != nil {
		return nil, err
	}
	if stream, is := in.(Stream); is {
		r.ContentLength = stream.Size
	}
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	if c.Token != "" {
		r.Header.Set("Authorization", "Bearer "+c.Token)
	}
	r.Header.Set("Zridge-Via", "cli")
	caller := c.HTTP
	if caller == nil {
		caller = http.DefaultClient
	}
	answer, err := caller.Do(r)
	if err != nil {
		var failed *url.Error
		if errors.As(err, &failed) {
			err = failed.Err
		}
		return nil, fmt.Errorf("calling the service at %s: %w", c.Base, err)
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(io.LimitReader(answer.Body, maxAnswer))
	if err != nil {
		return nil, fmt.Errorf("reading the service's answer: %w", err)
	}
	if answer.StatusCode >= 400 {
		p := &wire.Problem{Status: answer.StatusCode, Title: answer.Status}
		if strings.HasPrefix(answer.Header.Get("Content-Type"), "application/problem+json") {
			if err := json.Unmarshal(data, p); err != nil {
				return nil, fmt.Errorf("the service answered %s, and no problem that can be read", answer.Status)
			}
		}
		return answer.Header, p
	}
	if raw, is := out.(*[]byte); is {
		*raw = data
		return answer.Header, nil
	}
	if out != nil && len(data) > 0 {
		if err := json.Unmarshal(data, out); err != nil {
			return answer.Header, fmt.Errorf("the service's answer can't be read: %w", err)
		}
	}
	return answer.Header, nil
}

// Get asks for something.
func Get[T any](ctx context.Context, c *Client, path string, query url.Values) (T, error) {
	var out T
	_, err := c.Call(ctx, http.MethodGet, path, query, nil, &out)
	return out, err
}

// Post does something.
func Post[T any](ctx context.Context, c *Client, path string, in any) (T, error) {
	var out T
	_, err := c.Call(ctx, http.MethodPost, path, nil, in, &out)
	return out, err
}

// All follows the cursors of a list to its end.
func All[T any](ctx context.Context, c *Client, path string, query url.Values) ([]T, error) {
	var all []T
	q := url.Values{}
	for k, v := range query {
		q[k] = v
	}
	for {
		page, err := Get[wire.Page[T]](ctx, c, path, q)
		if err != nil {
			return nil, err
		}
		all = append(all, page.Items...)
		if page.Next == "" {
			return all, nil
		}
		q.Set("cursor", page.Next)
	}
}

// Path makes a path of segments, escaped.
func Path(segments ...string) string {
	var b strings.Builder
	for _, s := range segments {
		b.WriteString("/" + url.PathEscape(s))
	}
	return b.String()
}

// SignIn makes a token for a name and password: it opens a session, makes the token in it and ends
// the session. The password is sent once and kept nowhere.
func (c *Client) SignIn(ctx context.Context, name, password, purpose string, days int) (wire.Token, error) {
	return c.SignInWith(ctx, wire.Credentials{Name: name, Password: password}, purpose, days)
}

// SignInWith is SignIn for an account that may have a second factor. Without the code that it
// needs, the error is a wire.Problem with the code "second-factor"; where somebody else chose the
// password, it has the code "password-due".
func (c *Client) SignInWith(ctx context.Context, as wire.Credentials, purpose string, days int) (token wire.Token, err error) {
	err = c.inSession(ctx, as, func(in *Client, cookie string) error {
		_, err := in.Call(ctx, http.MethodPost, "/tokens", nil, wire.NewToken{Name: purpose, Days: days}, &token, "Cookie", cookie)
		return err
	})
	return token, err
}

// ChoosePassword gives an account another password than the one that it signs in with. Its other
// sessions end.
func (c *Client) ChoosePassword(ctx context.Context, as wire.Credentials, password string) error {
	return c.inSession(ctx, as, func(in *Client, cookie string) error {
		_, err := in.Call(ctx, http.MethodPut, "/password", nil, wire.NewPassword{Old: as.Password, New: password}, nil, "Cookie", cookie)
		return err
	})
}

// inSession opens a session, does something in it, and ends it.
func (c *Client) inSession(ctx context.Context, as wire.Credentials, do func(in *Client, cookie string) error) error {
	session := *c
	session.Token = "" // a token makes no token
	header, err := session.Call(ctx, http.MethodPost, "/session", nil, as, nil)
	if err != nil {
		return err
	}
	cookie, _, _ := strings.Cut(header.Get("Set-Cookie"), ";")
	if err := do(&session, cookie); err != nil {
		return err
	}
	_, err = session.Call(ctx, http.MethodDelete, "/session", nil, nil, nil, "Cookie", cookie)
	return err
}

// AddFile sends a file to be read and kept. content says what it must be, empty: whatever it is.
func (c *Client) AddFile(ctx context.Context, name, content string, data []byte, acceptExpired, readOnly bool) (wire.File, error) {
	query := url.Values{"name": {name}}
	if content != "" {
		query.Set("content", content)
	}
	if acceptExpired {
		query.Set("accept_expired", "true")
	}
	if readOnly {
		query.Set("read_only", "true")
	}
	var out wire.File
	_, err := c.Call(ctx, http.MethodPost, "/files", query, data, &out, "Content-Type", "application/octet-stream")
	return out, err
}

// FileData gives a kept file's bytes.
func (c *Client) FileData(ctx context.Context, sha256 string) ([]byte, error) {
	var data []byte
	_, err := c.Call(ctx, http.MethodGet, Path("files", sha256, "content"), nil, nil, &data)
	return data, err
}
