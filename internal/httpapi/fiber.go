package httpapi

import (
	"bytes"
	"context"
	"crypto/tls"
	"io"
	"mime/multipart"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/adaptor"
)

// fiberAdapter lets Huma's typed handlers run on Fiber.
type fiberAdapter struct{ app *fiber.App }

// Handle registers an operation; {name} in its path becomes :name.
func (a fiberAdapter) Handle(op *huma.Operation, handler func(huma.Context)) {
	path := strings.NewReplacer("{", ":", "}", "").Replace(op.Path)
	a.app.Add([]string{op.Method}, path, func(c fiber.Ctx) error {
		// Fiber's context does not end with the connection; a limit keeps work bounded.
		ctx, cancel := context.WithTimeout(c.Context(), handlerTime)
		defer cancel()
		if kept := c.Locals(renderedKey{}); kept != nil {
			ctx = context.WithValue(ctx, renderedKey{}, kept)
		}
		handler(&fiberContext{op: op, c: c, ctx: ctx})
		return nil
	})
}

// ServeHTTP implements [huma.Adapter].
func (a fiberAdapter) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	adaptor.FiberApp(a.app)(w, r)
}

// fiberContext is one request. Strings are copies: the app is Immutable.
type fiberContext struct {
	op     *huma.Operation
	c      fiber.Ctx
	ctx    context.Context
	status int
}

var _ huma.Context = (*fiberContext)(nil)

func (f *fiberContext) Operation() *huma.Operation   { return f.op }
func (f *fiberContext) Context() context.Context     { return f.ctx }
func (f *fiberContext) TLS() *tls.ConnectionState    { return f.c.RequestCtx().TLSConnectionState() }
func (f *fiberContext) Method() string               { return f.c.Method() }
func (f *fiberContext) Host() string                 { return f.c.Host() }
func (f *fiberContext) RemoteAddr() string           { return f.c.RequestCtx().RemoteAddr().String() }
func (f *fiberContext) Query(name string) string     { return f.c.Query(name) }
func (f *fiberContext) Header(name string) string    { return f.c.Get(name) }
func (f *fiberContext) Status() int                  { return f.status }
func (f *fiberContext) BodyReader() io.Reader        { return bytes.NewReader(f.c.Body()) }
func (f *fiberContext) BodyWriter() io.Writer        { return f.c.Response().BodyWriter() }
func (f *fiberContext) SetHeader(name, value string) { f.c.Set(name, value) }

func (f *fiberContext) Version() huma.ProtoVersion {
	return huma.ProtoVersion{Proto: f.c.Protocol(), ProtoMajor: 1, ProtoMinor: 1}
}

func (f *fiberContext) URL() url.URL {
	u, err := url.Parse(f.c.OriginalURL())
	if err != nil {
		return url.URL{Path: f.c.Path()}
	}
	return *u
}

// Param returns a part of the path, decoded: a ticker may hold an ampersand.
func (f *fiberContext) Param(name string) string {
	raw := f.c.Params(name)
	if text, err := url.PathUnescape(raw); err == nil {
		return text
	}
	return raw
}

func (f *fiberContext) EachHeader(each func(name, value string)) {
	for name, values := range f.c.GetReqHeaders() {
		for _, v := range values {
			each(name, v)
		}
	}
}

func (f *fiberContext) GetMultipartForm() (*multipart.Form, error) { return f.c.MultipartForm() }

func (f *fiberContext) SetReadDeadline(t time.Time) error {
	return f.c.RequestCtx().Conn().SetReadDeadline(t)
}

func (f *fiberContext) SetStatus(code int) {
	f.status = code
	f.c.Status(code)
}

func (f *fiberContext) AppendHeader(name, value string) { f.c.Response().Header.Add(name, value) }
