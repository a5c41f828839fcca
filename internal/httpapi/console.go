package httpapi

import (
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strings"

	"github.com/gofiber/fiber/v3"
)

// addConsole serves the files of the console. A path without a file is a page
// of the console, which reads it from its address.
func (s *Server) addConsole() {
	if s.Console == nil {
		return
	}
	s.app.Get("/*", func(c fiber.Ctx) error {
		name := strings.TrimPrefix(path.Clean(c.Path()), "/")
		if strings.HasPrefix(name, "api/") {
			return fiber.ErrNotFound
		}
		if path.Ext(name) == "" || strings.HasPrefix(name, "listings/") || strings.HasPrefix(name, "lists/") { // names of both may hold dots
			name = "index.html"
		}
		file, err := fs.ReadFile(s.Console, name)
		if err != nil {
			if name == "index.html" {
				return c.Status(http.StatusNotFound).SendString("The console is not part of this program; build it with 'make build'.\n")
			}
			return fiber.ErrNotFound
		}
		if strings.HasPrefix(name, "assets/") {
			c.Set("Cache-Control", "public, max-age=31536000, immutable") // their names change with their content
		} else {
			c.Set("Cache-Control", "no-cache")
		}
		c.Set("Content-Type", mime.TypeByExtension(path.Ext(name)))
		return c.Send(file)
	})
}
