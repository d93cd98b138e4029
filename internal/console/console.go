// Package console serves the console: the pages that were built from web/ and
// embedded. It decides nothing about mail.
package console

import (
	"bytes"
	"compress/gzip"
	"crypto/rand"
	"embed"
	"io/fs"
	"mime"
	"path"
	"slices"
	"strings"
	"sync"

	"github.com/gofiber/fiber/v3"

	"inktray.example/inktray/internal/texts"
)

//go:embed all:dist
var dist embed.FS

// file is one built file and its compressed form.
type file struct {
	data, zipped []byte
	kind         string
}

const missing = `<!doctype html><html lang="en"><meta charset="utf-8"><title>Ink Tray</title><p>This program was built without its console. Run <code>make build</code>.</p></html>`

// built is the console as it was built: its page, its files by address, and what announces the texts of a language.
type built struct {
	page       []byte
	files      map[string]file
	catalogues map[string]string
}

// readBuilt reads and compresses what is embedded, once for the program.
var readBuilt = sync.OnceValue(func() built {
	root, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the folder is part of the program
	}
	files, catalogues := map[string]file{}, map[string]string{}
	page := []byte(missing)
	err = fs.WalkDir(root, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := fs.ReadFile(root, name)
		if err != nil {
			return err
		}
		if language, ok := catalogueIn(name); ok {
			catalogues[language] = "</" + name + ">; rel=modulepreload"
		}
		if name == "index.html" {
			page = data
			return nil
		}
		kind := mime.TypeByExtension(path.Ext(name))
		if path.Ext(name) == ".woff2" {
			kind = "font/woff2"
		}
		f := file{data: data, kind: kind}
		if strings.HasPrefix(kind, "text/") || strings.Contains(kind, "javascript") || strings.Contains(kind, "svg") {
			var b bytes.Buffer
			z, _ := gzip.NewWriterLevel(&b, gzip.BestCompression)
			_, _ = z.Write(data)
			z.Close()
			f.zipped = b.Bytes()
		}
		files["/"+name] = f
		return nil
	})
	if err != nil {
		panic(err)
	}
	return built{page, files, catalogues}
})

// Register serves the console: built files under their hashed names for ever,
// and for every other address the page, which finds its way by itself.
func Register(app fiber.Router) {
	console := readBuilt()
	page, files, catalogues := console.page, console.files, console.catalogues
	app.Get("/*", func(c fiber.Ctx) error {
		if f, ok := files[c.Path()]; ok {
			c.Set("Content-Type", f.kind)
			c.Set("Cache-Control", "public, max-age=31536000, immutable")
			c.Set("Vary", "Accept-Encoding")
			if f.zipped != nil && strings.Contains(c.Get("Accept-Encoding"), "gzip") {
				c.Set("Content-Encoding", "gzip")
				return c.Send(f.zipped)
			}
			return c.Send(f.data)
		}
		if strings.HasPrefix(c.Path(), "/assets/") {
			return fiber.ErrNotFound
		}
		nonce := rand.Text()
		c.Set("Content-Security-Policy", "default-src 'none'; script-src 'self' 'nonce-"+nonce+"'; style-src 'self' 'nonce-"+
			nonce+"'; img-src 'self' data:; font-src 'self'; connect-src 'self'; frame-src 'self'; worker-src 'self'; "+
			"base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
		c.Set("Cache-Control", "no-store")
		c.Set("Content-Type", "text/html; charset=utf-8")
		// The texts are on their way before the script asks for them (RFC 8288).
		if link := catalogues[texts.For(c.Get("Accept-Language")).Language()]; link != "" {
			c.Set("Link", link)
		}
		return c.Send(bytes.ReplaceAll(page, []byte("__CSP_NONCE__"), []byte(nonce)))
	})
}

// catalogueIn says of which language a file has the texts: assets/de-CBFOaWI4.js has the German ones.
func catalogueIn(name string) (language string, ok bool) {
	rest, isAsset := strings.CutPrefix(name, "assets/")
	language, rest, found := strings.Cut(rest, "-")
	return language, isAsset && found && strings.HasSuffix(rest, ".js") &&
		(language == "en" || slices.Contains(texts.Languages(), language))
}
