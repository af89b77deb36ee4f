package service

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"mime"
	"path"
	"strings"
	"sync"

	"github.com/andybalholm/brotli"
	"github.com/gofiber/fiber/v3"
)

// pages are the console's built files, packed once for those who take them packed.
type pages struct {
	mu     sync.Mutex
	packed map[string][]byte // by encoding and name
}

// nonceMark is in index.html where the page's nonce is to be.
const nonceMark = "NONCE-OF-THE-PAGE"

// console serves the built pages; a path that is no file is a page of the
// console's own.
func (s *Service) console(c fiber.Ctx) error {
	name := strings.TrimPrefix(path.Clean("/"+c.Params("*")), "/")
	body, err := fs.ReadFile(s.Console, name)
	if err != nil {
		name = "index.html"
		if body, err = fs.ReadFile(s.Console, name); err != nil {
			return notFound("page", c.Path(), by("this service was built without its console; make build builds both"))
		}
	}
	c.Set(fiber.HeaderContentType, mime.TypeByExtension(path.Ext(name)))
	if name == "index.html" {
		nonce := newSecret("")[:22]
		c.Set(fiber.HeaderContentSecurityPolicy, fmt.Sprintf(policy, nonce))
		return c.Send(bytes.ReplaceAll(body, []byte(nonceMark), []byte(nonce)))
	}
	c.Set(fiber.HeaderCacheControl, "no-cache")
	if strings.HasPrefix(name, "assets/") {
		c.Set(fiber.HeaderCacheControl, "public, max-age=31536000, immutable")
	}
	c.Vary(fiber.HeaderAcceptEncoding)
	if encoding := c.AcceptsEncodings("br", "gzip"); encoding != "" && len(body) > 1<<10 && packs(name) &&
		c.Get(fiber.HeaderAcceptEncoding) != "" {
		if body, err = s.pages.pack(encoding, name, body); err != nil {
			return err
		}
		c.Set(fiber.HeaderContentEncoding, encoding)
	}
	return c.Send(body)
}

// packs reports whether a file gets smaller when it is packed.
func packs(name string) bool {
	switch path.Ext(name) {
	case ".js", ".css", ".svg", ".html", ".json":
		return true
	}
	return false
}

func (p *pages) pack(encoding, name string, body []byte) ([]byte, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	key := encoding + " " + name
	if packed, done := p.packed[key]; done {
		return packed, nil
	}
	var out bytes.Buffer
	var packer io.WriteCloser = brotli.NewWriterLevel(&out, 9)
	if encoding == "gzip" {
		packer, _ = gzip.NewWriterLevel(&out, gzip.BestCompression) // a level that there is
	}
	_, err := packer.Write(body)
	if err = errors.Join(err, packer.Close()); err != nil {
		return nil, fmt.Errorf("pack %s: %w", name, err)
	}
	if p.packed == nil {
		p.packed = map[string][]byte{}
	}
	p.packed[key] = out.Bytes()
	return out.Bytes(), nil
}
