// This file has bulk requests of provisioning clients (RFC 7644, section 3.7).

package httpapi

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"zenithridge.example/zridge/service/scim"
)

// bulkRequest is several operations in one request (RFC 7644, section 3.7).
type bulkRequest struct {
	Schemas      []string        `json:"schemas"`
	FailOnErrors int             `json:"failOnErrors"`
	Operations   []bulkOperation `json:"Operations"`
}

type bulkOperation struct {
	Method  string          `json:"method"`
	BulkID  string          `json:"bulkId,omitempty"`
	Version string          `json:"version,omitempty"`
	Path    string          `json:"path"`
	Data    json.RawMessage `json:"data,omitempty"`
}

type bulkResult struct {
	Method   string          `json:"method"`
	BulkID   string          `json:"bulkId,omitempty"`
	Version  string          `json:"version,omitempty"`
	Location string          `json:"location,omitempty"`
	Status   string          `json:"status"`
	Response json.RawMessage `json:"response,omitempty"`
}

// bulk does operations in their order, each as the request that it describes. An operation that
// names a bulkId which is made later waits for it; those that wait for one another fail.
func (s *server) bulk(c *gin.Context, engine http.Handler) {
	data, err := scimBody(c, scim.MaxPayload)
	var in bulkRequest
	if err == nil && json.Unmarshal(data, &in) != nil {
		err = &scim.Error{Status: 400, Type: scim.InvalidSyntax, Detail: "found another form than " + scim.BulkMessage + " has"}
	}
	if err == nil && len(in.Operations) > scim.MaxOperations {
		err = &scim.Error{Status: 413, Detail: fmt.Sprintf("found %d operations, "+
			"expected at most %d", len(in.Operations), scim.MaxOperations)}
	}
	if err != nil {
		s.failSCIM(c, err)
		return
	}
	made := map[string]string{}
	results := make([]bulkResult, len(in.Operations))
	done := make([]bool, len(in.Operations))
	failed := 0
	full := func() bool { return in.FailOnErrors > 0 && failed >= in.FailOnErrors }
	for progress := true; progress && !full(); {
		progress = false
		for i, op := range in.Operations {
			if done[i] || full() {
				continue
			}
			body, path, ready := namedByBulkID(op, made)
			if !ready {
				continue
			}
			done[i], progress = true, true
			results[i] = s.bulkOne(c, engine, op, path, body)
			if strings.HasPrefix(results[i].Status, "2") {
				if op.BulkID != "" && strings.EqualFold(op.Method, http.MethodPost) {
					made[op.BulkID] = results[i].Location[strings.LastIndexByte(results[i].Location, '/')+1:]
				}
			} else {
				failed++
			}
		}
	}
	answer := make([]bulkResult, 0, len(results))
	for i, op := range in.Operations {
		if !done[i] && !full() {
			text, _ := json.Marshal(
				&scim.Error{
					Status: 409,
					Type:   scim.InvalidValue,
					Detail: "the operation names a bulkId that no operation makes, or that waits for this one",
				},
			)
			results[i], done[i] = bulkResult{Method: op.Method, BulkID: op.BulkID, Status: "409", Response: text}, true
			failed++
		}
		if done[i] {
			answer = append(answer, results[i])
		}
	}
	answerSCIM(c, http.StatusOK, map[string]any{"schemas": []string{scim.BulkAnswer}, "Operations": answer})
}

// namedByBulkID puts ids in the place of bulkId:… ; ready is false while one of them is not made.
func namedByBulkID(op bulkOperation, made map[string]string) (body []byte, path string, ready bool) {
	body, path = op.Data, op.Path
	for name, id := range made {
		body = bytes.ReplaceAll(body, []byte(`"bulkId:`+name+`"`), []byte(`"`+id+`"`))
		path = strings.ReplaceAll(path, "bulkId:"+name, id)
	}
	return body, path, !bytes.Contains(body, []byte(`"bulkId:`)) && !strings.Contains(path, "bulkId:")
}

func (s *server) bulkOne(c *gin.Context, engine http.Handler, op bulkOperation, path string, body []byte) bulkResult {
	method := strings.ToUpper(op.Method)
	out := bulkResult{Method: op.Method, BulkID: op.BulkID}
	refuse := func(e *scim.Error) bulkResult {
		out.Status = strconv.Itoa(e.Status)
		out.Response, _ = json.Marshal(e)
		return out
	}
	resource := strings.HasPrefix(path, "/Users") || strings.HasPrefix(path, "/Groups")
	switch {
	case !resource || strings.Contains(path, "?") || method == http.MethodGet:
		return refuse(
			&scim.Error{
				Status: 400,
				Type:   scim.InvalidValue,
				Detail: "found the operation " + op.Method + " " + path + ", expected POST, PUT, PATCH or DELETE of a user or group",
			},
		)
	case method == http.MethodPost && op.BulkID == "":
		return refuse(&scim.Error{Status: 400, Type: scim.InvalidValue, Detail: "bulkId is missing, and required with POST"})
	}
	target, err := url.Parse(scimBase + path)
	if err != nil {
		return refuse(&scim.Error{Status: 400, Type: scim.InvalidPath, Detail: "found a path that is no address"})
	}
	inner := c.Request.Clone(c.Request.Context())
	inner.Method, inner.URL, inner.RequestURI = method, target, target.String()
	inner.Body, inner.ContentLength = io.NopCloser(bytes.NewReader(body)), int64(len(body))
	inner.Header.Del("If-Match")
	if op.Version != "" {
		inner.Header.Set("If-Match", op.Version)
	}
	answer := httptest.NewRecorder()
	engine.ServeHTTP(answer, inner)
	out.Status = strconv.Itoa(answer.Code)
	out.Version = answer.Header().Get("ETag")
	out.Location = answer.Header().Get("Location")
	if out.Location == "" && method != http.MethodPost {
		out.Location = baseOf(c) + path
	}
	if answer.Code >= 400 {
		out.Response = answer.Body.Bytes()
	}
	return out
}
