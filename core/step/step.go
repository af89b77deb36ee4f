package step

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"strings"
)

// MaxFileSize is the largest file that a step folder may hold, in bytes.
const MaxFileSize = 64 << 20

// Checksum is the lower-case hexadecimal SHA-256 of a file's normal text. For
// an ordinary file, sha256sum prints the same value.
type Checksum string

// Short returns the first twelve digits, for tables.
func (c Checksum) Short() string {
	return string(c[:min(12, len(c))])
}

// File is one file of a step folder, as ReadFile found it.
type File struct {
	Name    string
	Options Options // of a forward file

	// text
	Bytes    []byte   // exactly as it was read; may be dropped once it is kept elsewhere
	Checksum Checksum // of the normal text
	Digest   Checksum // of the exact bytes; differs only with a byte-order mark or CRLF line ends
}

// NormalText is what is run: a leading byte-order mark is dropped and CRLF
// becomes LF. It shares memory with the file's bytes where nothing had to
// change.
func NormalText(file []byte) []byte {
	text := bytes.TrimPrefix(file, []byte("\ufeff"))
	if bytes.Contains(text, []byte("\r\n")) {
		text = bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n"))
	}
	return text
}

// Text returns the file's normal text.
func (f File) Text() []byte { return NormalText(f.Bytes) }

// Sum is the checksum of a text.
func Sum(text []byte) Checksum {
	digest := sha256.Sum256(text)
	return Checksum(hex.EncodeToString(digest[:]))
}

// Part says which of a step's three files a file is.
type Part string

const (
	Forward Part = "forward"
	Back    Part = "back"
	Check   Part = "check"
)

// Name is what a file name says: 0001-create-vessel.back.sql.
type Name struct {
	Number Number
	Slug   string
	Part   Part
}

// Title is the slug in words.
func (n Name) Title() string {
	return strings.ReplaceAll(n.Slug, "-", " ")
}

// Step is one migration script with its companions.
type Step struct {
	// identity
	Number Number
	Slug   string

	// files; Back and Check are nil where none was given
	Forward File
	Back    *File
	Check   *File
}

// Options is what the comment that opens the forward file says.
func (s Step) Options() Options { return s.Forward.Options }

// Title is the slug in words.
func (s Step) Title() string {
	return Name{Slug: s.Slug}.Title()
}
