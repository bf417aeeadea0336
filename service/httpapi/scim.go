// This file has the endpoint for provisioning clients: SCIM 2.0 (RFC 7644) under /scim/v2, with
// bearer tokens of its own.

package httpapi

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"zenithridge.example/zridge/service/scim"
	"zenithridge.example/zridge/service/store"
	"zenithridge.example/zridge/service/workflow"
)

const scimBase = "/scim/v2"

// registerSCIM adds the addresses of RFC 7644, section 3.2.
func (s *server) registerSCIM(engine *gin.Engine) {
	g := engine.Group(scimBase, s.provisioner)
	g.GET("/ServiceProviderConfig", func(c *gin.Context) { answerSCIM(c, http.StatusOK, scim.Config(baseOf(c))) })
	g.GET("/ResourceTypes", func(c *gin.Context) {
		var list []any
		for _, t := range scim.Types {
			list = append(list, t.ResourceType(baseOf(c)))
		}
		fixedList(c, list)
	})
	g.GET("/ResourceTypes/:id", func(c *gin.Context) {
		for _, t := range scim.Types {
			if t.Name == c.Param("id") {
				answerSCIM(c, http.StatusOK, t.ResourceType(baseOf(c)))
				return
			}
		}
		refuseSCIM(c, &scim.Error{Status: 404, Detail: "there is no such type of resource"})
	})
	g.GET("/Schemas", func(c *gin.Context) {
		var list []any
		for _, one := range scim.Schemas(baseOf(c)) {
			list = append(list, one)
		}
		fixedList(c, list)
	})
	g.GET("/Schemas/:id", func(c *gin.Context) {
		for _, one := range scim.Schemas(baseOf(c)) {
			if one["id"] == c.Param("id") {
				answerSCIM(c, http.StatusOK, one)
				return
			}
		}
		refuseSCIM(c, &scim.Error{Status: 404, Detail: "there is no such schema"})
	})
	for _, t := range scim.Types {
		d := scimHandler{s, t}
		g.GET(t.Endpoint, d.query)
		g.POST(t.Endpoint, d.create)
		g.POST(t.Endpoint+"/.search", d.search)
		g.GET(t.Endpoint+"/:id", d.get)
		g.PUT(t.Endpoint+"/:id", d.replace)
		g.PATCH(t.Endpoint+"/:id", d.patch)
		g.DELETE(t.Endpoint+"/:id", d.remove)
	}
	g.POST("/Bulk", func(c *gin.Context) { s.bulk(c, engine) })
	g.Any("/Me", func(c *gin.Context) {
		refuseSCIM(c, &scim.Error{Status: 501, Detail: "a provisioning client is no user of the service"})
	})
}

const sourceKey = "source"

// provisioner lets in who has a token of a source.
func (s *server) provisioner(c *gin.Context) {
	token, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer ")
	var row store.Source
	err := error(nil)
	if ok {
		row, err = s.Flow.SourceByToken(c.Request.Context(), token)
	}
	if !ok || err != nil {
		c.Header("WWW-Authenticate", `Bearer realm="provisioning"`)
		refuseSCIM(c, &scim.Error{Status: 401, Detail: "found no token of a source that is valid"})
		c.Abort()
		return
	}
	c.Set(sourceKey, row.ID)
}

func sourceOf(c *gin.Context) string { return c.GetString(sourceKey) }

// baseOf gives the address under which the client reached the service.
func baseOf(c *gin.Context) string {
	scheme := "http"
	if c.Request.TLS != nil || c.GetHeader("X-Forwarded-Proto") == "https" {
		scheme = "https"
	}
	return scheme + "://" + c.Request.Host + scimBase
}

func answerSCIM(c *gin.Context, status int, body any) {
	data, err := json.Marshal(body)
	if err != nil {
		refuseSCIM(c, &scim.Error{Status: 500, Detail: "the service failed"})
		return
	}
	c.Data(status, scim.MediaType+"; charset=utf-8", data)
}

func refuseSCIM(c *gin.Context, e *scim.Error) { answerSCIM(c, e.Status, e) }

// failSCIM answers an error. What is not SCIM's is logged, and not told.
func (s *server) failSCIM(c *gin.Context, err error) {
	var known *scim.Error
	if errors.As(err, &known) {
		refuseSCIM(c, known)
		return
	}
	refuseSCIM(c, &scim.Error{Status: 500, Detail: s.logged(c.Request.Context(), "request failed", "path", c.FullPath(), "error", err)})
}

func fixedList(c *gin.Context, list []any) {
	if c.Query("filter") != "" { // RFC 7644, section 4
		refuseSCIM(c, &scim.Error{Status: 403, Detail: "a filter is not taken here"})
		return
	}
	answerSCIM(c, http.StatusOK, scim.List{Schemas: []string{scim.ListMessage}, Total: len(list), Start: 1, Count: len(list), Items: list})
}

// scimBody reads a request's body.
func scimBody(c *gin.Context, limit int64) ([]byte, error) {
	data, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, limit))
	var long *http.MaxBytesError
	if errors.As(err, &long) {
		return nil, &scim.Error{Status: 413, Detail: fmt.Sprintf("found more than %d bytes", limit)}
	}
	if err != nil {
		return nil, &scim.Error{Status: 400, Type: scim.InvalidSyntax, Detail: "the body could not be read to its end"}
	}
	return data, nil
}

// maxGroupBody bounds a single resource: a group of 100,000 members is some megabytes.
const maxGroupBody = 16 << 20

// scimHandler answers for one type of resource.
type scimHandler struct {
	*server
	t *scim.Type
}

func tagOf(version int64) string { return scim.Tag(version) }

// expectedSCIM reads If-Match: the version that the client read, -1 where it does not say; 412
// comes of any that is none of ours.
func expectedSCIM(c *gin.Context) int64 {
	text := c.GetHeader("If-Match")
	if text == "" || text == "*" {
		return -1
	}
	for _, tag := range strings.Split(text, ",") {
		tag = strings.Trim(strings.TrimPrefix(strings.TrimSpace(tag), "W/"), `"`)
		if n, err := strconv.ParseInt(tag, 10, 64); err == nil {
			return n
		}
	}
	return 0
}

// finished adds to a resource what the service itself says of it.
func (d scimHandler) finished(base string, p workflow.Provisioned, groups []workflow.Membership) scim.Resource {
	r := p.Resource
	r["id"] = p.ID
	meta := d.t.Meta(p.ID, p.Created, p.Modified, p.Version)
	meta["location"] = fmt.Sprint(base, meta["location"])
	r["meta"] = meta
	if len(groups) > 0 {
		list := make([]any, len(groups))
		for i, g := range groups {
			list[i] = map[string]any{"value": g.Group, "$ref": base + scim.Groups.Endpoint + "/" + g.Group, "display": g.Name, "type": "direct"}
		}
		r["groups"] = list
	}
	if members, ok := r["members"].([]any); ok {
		for _, v := range members {
			if m, ok := v.(map[string]any); ok && m["$ref"] == nil {
				endpoint := scim.Users.Endpoint
				if m["type"] == "Group" {
					endpoint = scim.Groups.Endpoint
				}
				m["$ref"] = fmt.Sprint(base, endpoint, "/", m["value"])
			}
		}
	}
	return r
}

// one answers with one resource.
func (d scimHandler) one(c *gin.Context, status int, p workflow.Provisioned) {
	projection, err := d.t.ReadProjection(c.Query("attributes"), c.Query("excludedAttributes"))
	if err != nil {
		d.failSCIM(c, err)
		return
	}
	groups := map[string][]workflow.Membership{}
	if d.t == scim.Users && projection.Wants("groups") {
		if groups, err = d.Flow.GroupsOf(c.Request.Context(), sourceOf(c), []string{p.ID}); err != nil {
			d.failSCIM(c, err)
			return
		}
	}
	c.Header("ETag", tagOf(p.Version))
	if status == http.StatusCreated {
		c.Header("Location", baseOf(c)+d.t.Endpoint+"/"+p.ID)
	}
	answerSCIM(c, status, projection.Of(d.t, d.finished(baseOf(c), p, groups[p.ID])))
}

func (d scimHandler) get(c *gin.Context) {
	p, err := d.Flow.Provisioned(c.Request.Context(), sourceOf(c), d.t, c.Param("id"))
	if err != nil {
		d.failSCIM(c, err)
		return
	}
	if strings.Contains(c.GetHeader("If-None-Match"), tagOf(p.Version)) {
		c.Header("ETag", tagOf(p.Version))
		c.Status(http.StatusNotModified)
		return
	}
	d.one(c, http.StatusOK, p)
}

func (d scimHandler) create(c *gin.Context) {
	data, err := scimBody(c, maxGroupBody)
	if err == nil {
		var p workflow.Provisioned
		if p, err = d.Flow.Provision(
			c.Request.Context(),
			sourceOf(c),
			d.t,
			"",
			-1,
			func(scim.Resource) (scim.Resource, error) { return d.t.Read(data) },
		); err == nil {
			d.one(c, http.StatusCreated, p)
			return
		}
	}
	d.failSCIM(c, err)
}

func (d scimHandler) replace(c *gin.Context) {
	data, err := scimBody(c, maxGroupBody)
	if err == nil {
		var p workflow.Provisioned
		if p, err = d.Flow.Provision(c.Request.Context(),
			sourceOf(c),
			d.t,
			c.Param("id"),
			expectedSCIM(c),
			func(scim.Resource) (scim.Resource, error) { return d.t.Read(data) },
		); err == nil {
			d.one(c, http.StatusOK, p)
			return
		}
	}
	d.failSCIM(c, err)
}

func (d scimHandler) patch(c *gin.Context) {
	data, err := scimBody(c, maxGroupBody)
	var operations []scim.Operation
	if err == nil {
		operations, err = scim.ReadPatch(data)
	}
	if err == nil {
		var p workflow.Provisioned
		if p, err = d.Flow.Provision(c.Request.Context(),
			sourceOf(c),
			d.t,
			c.Param("id"),
			expectedSCIM(c),
			func(was scim.Resource) (scim.Resource, error) { return d.t.Patch(was, operations) },
		); err == nil {
			d.one(c, http.StatusOK, p)
			return
		}
	}
	d.failSCIM(c, err)
}

func (d scimHandler) remove(c *gin.Context) {
	if err := d.Flow.Deprovision(c.Request.Context(), sourceOf(c), d.t, c.Param("id"), expectedSCIM(c)); err != nil {
		d.failSCIM(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// searchRequest is a query in a body (RFC 7644, section 3.4.3).
type searchRequest struct {
	Schemas    []string `json:"schemas"`
	Attributes []string `json:"attributes"`
	Excluded   []string `json:"excludedAttributes"`
	Filter     string   `json:"filter"`
	SortBy     string   `json:"sortBy"`
	SortOrder  string   `json:"sortOrder"`
	Start      *int     `json:"startIndex"`
	Count      *int     `json:"count"`
}

func (d scimHandler) query(c *gin.Context) {
	q := searchRequest{Filter: c.Query("filter"), SortBy: c.Query("sortBy"), SortOrder: c.Query("sortOrder")}
	for name, to := range map[string]**int{"startIndex": &q.Start, "count": &q.Count} {
		if text := c.Query(name); text != "" {
			n, err := strconv.Atoi(text)
			if err != nil {
				refuseSCIM(c, &scim.Error{Status: 400, Type: scim.InvalidValue, Detail: name + ": found no whole number"})
				return
			}
			*to = &n
		}
	}
	d.list(c, q, c.Query("attributes"), c.Query("excludedAttributes"))
}

func (d scimHandler) search(c *gin.Context) {
	data, err := scimBody(c, maxBody)
	var q searchRequest
	if err == nil && json.Unmarshal(data, &q) != nil {
		err = &scim.Error{Status: 400, Type: scim.InvalidSyntax, Detail: "found another form than " + scim.SearchMessage + " has"}
	}
	if err != nil {
		d.failSCIM(c, err)
		return
	}
	d.list(c, q, strings.Join(q.Attributes, ","), strings.Join(q.Excluded, ","))
}

// How long a page is where the client does not say, in resources, and at most, in bytes: a page
// that would be longer ends earlier, and the client asks for what comes after it (RFC 7644, section
// 3.4.2.4). One resource is a page at least.
const (
	countByDefault = 100
	maxPageBytes   = 4 << 20
)

func (d scimHandler) list(c *gin.Context, q searchRequest, attributes, excluded string) {
	projection, err := d.t.ReadProjection(attributes, excluded)
	var filter *scim.Filter
	if err == nil && q.Filter != "" {
		filter, err = d.t.ReadFilter(q.Filter)
	}
	var found []workflow.Provisioned
	if err == nil {
		found, err = d.Flow.ProvisionedAll(c.Request.Context(), sourceOf(c), d.t, filter)
	}
	if err != nil {
		d.failSCIM(c, err)
		return
	}
	byID := make(map[string]workflow.Provisioned, len(found))
	list := make([]scim.Resource, len(found))
	for i, p := range found {
		byID[p.ID] = p
		list[i] = p.Resource
		list[i]["id"] = p.ID
	}
	if q.SortBy != "" {
		if err := d.t.Sort(list, q.SortBy, q.SortOrder); err != nil {
			d.failSCIM(c, err)
			return
		}
	}
	start, count := 1, countByDefault
	if q.Start != nil {
		start = *q.Start
	}
	if q.Count != nil {
		count = *q.Count
	}
	page, start := scim.Page(list, start, count)
	groups := map[string][]workflow.Membership{}
	if d.t == scim.Users && projection.Wants("groups") {
		ids := make([]string, len(page))
		for i, r := range page {
			ids[i] = r["id"].(string)
		}
		if groups, err = d.Flow.GroupsOf(c.Request.Context(), sourceOf(c), ids); err != nil {
			d.failSCIM(c, err)
			return
		}
	}
	items := make([]any, 0, len(page))
	size := 0
	for _, r := range page {
		id := r["id"].(string)
		text, err := json.Marshal(projection.Of(d.t, d.finished(baseOf(c), byID[id], groups[id])))
		if err != nil {
			d.failSCIM(c, err)
			return
		}
		if size += len(text); size > maxPageBytes && len(items) > 0 {
			break
		}
		items = append(items, json.RawMessage(text))
	}
	answerSCIM(
		c,
		http.StatusOK,
		scim.List{Schemas: []string{scim.ListMessage}, Total: len(list), Start: start, Count: len(items), Items: items},
	)
}
