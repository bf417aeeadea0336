// This file has the resource of files that values name, and the endpoint from which laptops fetch
// them.

package httpapi

import (
	"context"
	"net/http"
	"net/url"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/contents"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/checkin"
	"zenithridge.example/zridge/service/workflow"
)

type addFileInput struct {
	Name          string `query:"name" required:"true" maxLength:"800" doc:"What people call it"`
	Content       string `query:"content" enum:"any,certificate,application-rules,application" default:"any" doc:"What it must be"`
	AcceptExpired bool   `query:"accept_expired" doc:"Take a certificate that has expired"`
	ReadOnly      bool   `query:"read_only" doc:"Say what is in it and do not keep it"`
	RawBody       []byte `contentType:"application/octet-stream"`
}

type fileOutput struct {
	ContentType        string `header:"Content-Type"`
	ContentDisposition string `header:"Content-Disposition"`
	Policy             string `header:"Content-Security-Policy"`
	Cache              string `header:"Cache-Control"`
	Body               []byte
}

func (s *server) registerFiles() {
	limit := int64(workflow.DefaultMaxFile)
	if s.Flow != nil { // nil while the document is written
		limit = s.Flow.MaxFile()
	}
	huma.Register(
		s.api,
		operation(
			"addFile",
			http.MethodPost,
			"/files",
			"Read a file and keep it, once by its SHA-256",
			needs(access.Write),
			status(http.StatusCreated),
			func(op *huma.Operation) { op.MaxBodyBytes = limit + 1 },
		),
		s.addFile,
	)
	huma.Register(s.api, operation("listFiles", http.MethodGet, "/files", "Files that are kept, the newest first"), s.listFiles)
	huma.Register(s.api, operation("getFile", http.MethodGet, "/files/{sha256}", "A file that is kept, and what is in it"), s.getFile)
	huma.Register(
		s.api,
		operation("fileContent", http.MethodGet, "/files/{sha256}/content", "A file's bytes", answers("application/octet-stream")),
		s.fileContent,
	)
}

func fileOf(k workflow.Kept) wire.File {
	return wire.File{SHA256: k.SHA256, Name: k.Name, Size: k.Size, By: k.By, At: k.At, New: k.New, Reading: k.Reading}
}

// laptopFile hands a file to a laptop that needs it. The laptop signs in with its id and secret
// (RFC 7617).
func (s *server) laptopFile(c *gin.Context) {
	device, secret, _ := c.Request.BasicAuth()
	data, err := s.CheckIn.File(c.Request.Context(), device, secret, c.Param("sha256"))
	switch {
	case err == checkin.ErrRefused:
		c.Header("WWW-Authenticate", `Basic realm="laptops", charset="UTF-8"`)
		writeProblem(c.Writer, problemOf(http.StatusUnauthorized, "refused", "the laptop's id or secret is not right"))
	case err != nil:
		writeProblem(c.Writer, s.fault(c.Request.Context(), err).(*wire.Problem))
	default:
		c.Header("Cache-Control", "private, no-store")
		c.Data(http.StatusOK, "application/octet-stream", data)
	}
}

// addFile handles the operation addFile: read a file and keep it, once by its SHA-256.
func (s *server) addFile(ctx context.Context, in *addFileInput) (*output[wire.File], error) {
	kept, err := s.Flow.AddFile(ctx, actorOf(ctx), in.Name,
		in.RawBody,
		contents.Options{Expect: setting.Content(in.Content), AcceptExpired: in.AcceptExpired},
		!in.ReadOnly,
	)
	return out(fileOf(kept), s.fault(ctx, err))
}

// listFiles handles the operation listFiles: files that are kept, the newest first.
func (s *server) listFiles(ctx context.Context, in *struct {
	Content string `query:"content" enum:"any,certificate,application-rules,application"`
	Cursor  string `query:"cursor"`
	Limit   int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}) (*output[wire.Page[wire.File]], error) {
	kept, err := s.Flow.Files(ctx, actorOf(ctx), setting.Content(in.Content))
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	page, err := paged(kept, in.Cursor, in.Limit, fileOf)
	return out(page, s.fault(ctx, err))
}

// getFile handles the operation getFile: a file that is kept, and what is in it.
func (s *server) getFile(ctx context.Context, in *struct {
	SHA256 string `path:"sha256"`
}) (*output[wire.File], error) {
	kept, err := s.Flow.File(ctx, actorOf(ctx), in.SHA256)
	return out(fileOf(kept), s.fault(ctx, err))
}

// fileContent handles the operation fileContent: a file's bytes.
func (s *server) fileContent(ctx context.Context, in *struct {
	SHA256 string `path:"sha256"`
}) (*fileOutput, error) {
	kept, err := s.Flow.File(ctx, actorOf(ctx), in.SHA256)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	data, err := s.Flow.FileData(ctx, actorOf(ctx), in.SHA256)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	// What people added is never shown as a page of the service: always a download, of no type that
	// a browser runs.
	return &fileOutput{
		"application/octet-stream",
		"attachment; filename*=UTF-8''" + url.PathEscape(kept.Name),
		"sandbox; default-src 'none'",
		"private, max-age=31536000, immutable",
		data,
	}, nil
}
