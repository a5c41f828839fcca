package httpapi

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"soba.invalid/soba/internal/store"
	"soba.invalid/soba/internal/wire"
)

// policy lets the console load nothing but its own files. Styles may be set on
// elements, which scripts do for sizes and positions.
const policy = "default-src 'none'; script-src 'self'; style-src 'self'; style-src-attr 'unsafe-inline'; img-src 'self' data:; font-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"

// protect sets the headers that protect an answer.
func (s *Server) protect(c fiber.Ctx) {
	c.Set("Content-Security-Policy", policy)
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("Referrer-Policy", "no-referrer")
	c.Set("Cross-Origin-Opener-Policy", "same-origin")
	c.Set("Cross-Origin-Resource-Policy", "same-origin")
	c.Set("Permissions-Policy", "camera=(), geolocation=(), microphone=()")
	if s.TLSCert != "" {
		c.Set("Strict-Transport-Security", "max-age=31536000")
	}
	if strings.HasPrefix(c.Path(), "/api/") && len(c.Response().Header.Peek("Cache-Control")) == 0 {
		c.Set("Cache-Control", "no-cache")
	}
}

// guard protects every answer, and refuses requests that another site's page, or
// a name that was made to point here, may have caused. "Not modified" carries no
// content to protect; the browser keeps the headers of the answer it has.
func (s *Server) guard(c fiber.Ctx) error {
	err := s.passed(c)
	if err != nil || c.Response().StatusCode() != http.StatusNotModified {
		s.protect(c)
	}
	return err
}

func (s *Server) passed(c fiber.Ctx) error {
	if !s.BehindProxy && !s.isOurName(c.Host()) {
		return hinted(problem(http.StatusMisdirectedRequest, problemForbidden, "Host", "this service is not reached as %q", c.Host()), "Use its loopback address, or allow the name with --host.")
	}
	if m := c.Method(); m != http.MethodGet && m != http.MethodHead {
		if origin := c.Get("Origin"); origin != "" {
			if u, err := url.Parse(origin); err != nil || u.Host != c.Host() {
				return problem(http.StatusForbidden, problemForbidden, "Origin", "changes from another site's page are refused")
			}
		}
		if site := c.Get("Sec-Fetch-Site"); site != "" && site != "same-origin" && site != "none" {
			return problem(http.StatusForbidden, problemForbidden, "Sec-Fetch-Site", "changes from another site's page are refused")
		}
	}
	return c.Next()
}

func (s *Server) isOurName(host string) bool {
	if host == s.address {
		return true
	}
	name, _, err := net.SplitHostPort(host)
	if err != nil {
		name = strings.Trim(host, "[]")
	}
	ip := net.ParseIP(name)
	return name == "localhost" || ip != nil || slices.Contains(s.Hosts, name)
}

// admit lets a request through to its operation when its token's scope allows it.
func (s *Server) admit(ctx huma.Context, next func(huma.Context)) {
	need, _ := ctx.Operation().Metadata["scope"].(string)
	if p := s.permitted(ctx.Context(), ctx.Header("Authorization"), need); p != nil {
		body, _ := json.Marshal(p) // plain values always marshal
		if p.Status == http.StatusUnauthorized {
			ctx.SetHeader("WWW-Authenticate", "Bearer")
		}
		ctx.SetHeader("Content-Type", "application/problem+json")
		ctx.SetStatus(p.Status)
		_, _ = ctx.BodyWriter().Write(body)
		return
	}
	next(ctx)
}

var scopes = []string{"read", "write", "admin"} // each includes those before it

// permitted checks a token against the scope that is needed; nil when it may pass.
func (s *Server) permitted(ctx context.Context, authorization, need string) *wire.Problem {
	if !slices.Contains(scopes, need) {
		return problem(http.StatusForbidden, problemForbidden, "", "nobody may do this")
	}
	token, given := strings.CutPrefix(authorization, "Bearer ")
	if s.open && !given {
		return nil // loopback: whoever is on this machine
	}
	missing := hinted(problem(http.StatusUnauthorized, problemToken, "Authorization", "a token is needed, and this is none"), "Send it as 'Authorization: Bearer …', or give it to the client with --token.")
	if !given {
		return missing
	}
	has, err := s.Store.TokenScope(ctx, hashed(token))
	if errors.Is(err, store.ErrNotFound) {
		return missing
	}
	if err != nil {
		return asProblem(err, "")
	}
	if slices.Index(scopes, has) < slices.Index(scopes, need) {
		return problem(http.StatusForbidden, problemForbidden, "Authorization", "the token's scope is %s, and %s is needed", has, need)
	}
	return nil
}

func hashed(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}

type newToken struct {
	Body struct {
		Label string `json:"label" minLength:"1" maxLength:"100" doc:"What it is for"`
		Scope string `json:"scope" enum:"read,write,admin"`
	}
}

func (s *Server) addAccess() {
	op := operation(http.MethodPost, "/api/v1/tokens", "new-token", "Make a token; it is shown this once", "access")
	op.Metadata = scope("admin")
	op.DefaultStatus = http.StatusCreated
	huma.Register(s.api, op, func(ctx context.Context, in *newToken) (*body[wire.Token], error) {
		raw := make([]byte, 24)
		rand.Read(raw) //nolint:errcheck // it never fails
		token := "soba_" + base64.RawURLEncoding.EncodeToString(raw)
		if err := s.Store.AddToken(ctx, hashed(token), in.Body.Label, in.Body.Scope, s.Now()); err != nil {
			return nil, asProblem(err, "")
		}
		return answer(wire.Token{Token: token, Label: in.Body.Label, Scope: in.Body.Scope}), nil
	})
}
