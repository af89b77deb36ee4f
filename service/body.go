package service

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"os"
	"sync"
	"syscall"
	"time"

	"github.com/gofiber/fiber/v3"
)

// Bodies are read through one reader, which bounds their size and their time. An
// upload arrives whole, in a file, before it takes a turn or a connection.

const (
	bodyLimit   = 2 << 20   // bytes of an ordinary request's body
	uploadLimit = 256 << 20 // bytes of a step folder or a bundle

	bodyGrace   = 10 * time.Second // in which a body may be slow
	slowestBody = 2 << 10          // bytes a second after that, on average
	longestBody = 10 * time.Minute

	mostUploads   = 16       // that arrive at once
	mostUploadsOf = 8        // of one caller
	mostUnread    = 64 << 20 // bytes of a refused body that are read, so that its sender hears of it
)

// incoming is a request's body. It stays at its end once it is there: the
// server's own stream would wait for another request.
type incoming struct {
	from  io.Reader
	conn  net.Conn
	began time.Time
	size  int64 // that was read
	ended bool
}

var errSlow = refuse(http.StatusRequestTimeout, "too-slow", "Too slow", by("send it again, over a faster connection"),
	"the request's body came slower than %d KiB a second, or broke off", slowestBody>>10)

func (b *incoming) Read(p []byte) (int, error) {
	if b.ended {
		return 0, io.EOF
	}
	now := time.Now()
	if b.began.IsZero() {
		b.began = now
	}
	late := b.began.Add(min(bodyGrace+time.Duration(b.size)*time.Second/slowestBody, longestBody))
	if b.conn != nil {
		_ = b.conn.SetReadDeadline(late) // where there is none, the server's own holds
	}
	n, err := b.from.Read(p)
	b.size += int64(n)
	b.ended = errors.Is(err, io.EOF)
	var timeout net.Error
	if err != nil && errors.As(err, &timeout) && timeout.Timeout() || err == nil && now.After(late) {
		return n, errSlow
	}
	return n, err
}

type bodyKey struct{}

// bodyOf is the body of a request that is still to be read.
func bodyOf(c fiber.Ctx) *incoming {
	body, _ := c.Locals(bodyKey{}).(*incoming)
	if body == nil {
		return &incoming{ended: true}
	}
	return body
}

// bodies lets a body be read, and reads what a handler has left of it: the
// connection's next request must not begin in the middle of this one.
func bodies(c fiber.Ctx) error {
	stream := c.Request().BodyStream()
	if stream == nil {
		return c.Next()
	}
	body := &incoming{from: stream, conn: c.RequestCtx().Conn()}
	c.Locals(bodyKey{}, body)
	err := c.Next()
	if !body.ended {
		_, _ = io.CopyN(io.Discard, body, mostUnread) // whether it came to its end is seen below
	}
	if !body.ended {
		c.Response().Header.SetConnectionClose()
	}
	return err
}

// plainBody refuses a body that is packed: a few bytes could stand for very many.
func plainBody(c fiber.Ctx) error {
	if packed := c.Get(fiber.HeaderContentEncoding); packed != "" && packed != "identity" {
		return refuse(
			http.StatusUnsupportedMediaType, "invalid-request", "The request is not valid",
			by("send the body as it is"),
			"Content-Encoding: %s is not taken",
			shortly(packed),
		)
	}
	return nil
}

func tooLarge(most int) error {
	return refuse(
		http.StatusRequestEntityTooLarge, "too-large", "Too large", nil,
		"the request's body may have %d MiB at most",
		most>>20,
	)
}

// uploadFile makes a file in which an upload is kept while it arrives, in the folder for temporary files. It has
// no name any more, and is gone once it is closed. The error is an *fs.PathError.
func uploadFile() (*os.File, error) {
	file, err := os.CreateTemp("", "vorrang-upload-")
	if err != nil {
		return nil, err
	}
	if err := os.Remove(file.Name()); err != nil {
		_ = file.Close() // it is given up
		return nil, err
	}
	return file, nil
}

// RoomForUploads is an error where the folder for temporary files cannot be written, or has less room than one upload
// may take; else it says how much room there is.
func RoomForUploads() (room string, err error) {
	file, err := uploadFile()
	if err != nil {
		return "", fmt.Errorf("%s: %w", os.TempDir(), errors.Unwrap(err))
	}
	defer file.Close()
	var disk syscall.Statfs_t
	if err := syscall.Fstatfs(int(file.Fd()), &disk); err != nil {
		return "", fmt.Errorf("%s: %w", os.TempDir(), err)
	}
	free := disk.Bavail * uint64(disk.Bsize) // bytes for who is not root
	room = fmt.Sprintf("%s: %d MiB free", os.TempDir(), free>>20)
	if free < uploadLimit {
		return "", fmt.Errorf("%s, and an upload may have %d MiB", room, uploadLimit>>20)
	}
	return room, nil
}

// noRoom is the error of an upload that the service cannot keep while it arrives: its folder for temporary
// files is not there, read only or full.
func noRoom(err error) error {
	return refuse(
		http.StatusInsufficientStorage, "no-room", "No room for uploads",
		by("give vorrangd a folder for temporary files that it may write, with room for its uploads (%d MiB each at most): "+
			"TMPDIR names it; vorrangd -check says whether it has that", uploadLimit>>20),
		"the upload cannot be kept while it arrives: %v", err,
	)
}

// limited reads an ordinary request's body, as much as it may have.
func limited(c fiber.Ctx) error {
	if err := plainBody(c); err != nil {
		return err
	}
	body := bodyOf(c)
	if body.ended {
		return c.Next()
	}
	if c.Request().Header.ContentLength() > bodyLimit {
		return tooLarge(bodyLimit)
	}
	text, err := io.ReadAll(io.LimitReader(body, bodyLimit+1))
	if err != nil {
		return err
	}
	if len(text) > bodyLimit {
		return tooLarge(bodyLimit)
	}
	c.Request().SetBodyRaw(text)
	return c.Next()
}

// uploads counts what arrives.
type uploads struct {
	room chan struct{}
	mu   sync.Mutex
	of   map[string]int
}

func newUploads() *uploads {
	return &uploads{room: make(chan struct{}, mostUploads), of: map[string]int{}}
}

// enter waits for room for a caller's upload.
func (u *uploads) enter(c call) (leave func(), err error) {
	u.mu.Lock()
	already := u.of[c.actor]
	if already < mostUploadsOf {
		u.of[c.actor]++
	}
	u.mu.Unlock()
	if already >= mostUploadsOf {
		return nil, refuse(
			http.StatusTooManyRequests, "too-many", "Too many uploads",
			by("wait until one of them has ended"),
			"%d uploads of %s are under way",
			already, c.actor,
		)
	}
	done := func() {
		u.mu.Lock()
		defer u.mu.Unlock()
		if u.of[c.actor]--; u.of[c.actor] == 0 {
			delete(u.of, c.actor)
		}
	}
	select {
	case u.room <- struct{}{}:
		return func() { <-u.room; done() }, nil
	case <-c.Done():
		done()
		return nil, c.Err()
	}
}

// receiveUpload waits until an upload to a lane is there whole. The file is the caller's to close,
// and has no name any more.
func (s *catalogue) receiveUpload(c call, lane string) (*os.File, error) {
	if _, err := s.targets.lane(c, lane); err != nil {
		return nil, err
	}
	if err := plainBody(c.fiber); err != nil {
		return nil, err
	}
	if c.fiber.Request().Header.ContentLength() > uploadLimit {
		return nil, tooLarge(uploadLimit)
	}
	leave, err := s.uploads.enter(c)
	if err != nil {
		return nil, err
	}
	defer leave()
	file, err := uploadFile()
	if err != nil {
		return nil, noRoom(err)
	}
	size, err := io.Copy(file, io.LimitReader(bodyOf(c.fiber), uploadLimit+1))
	if errors.As(err, new(*fs.PathError)) { // of the file, not of the connection
		err = noRoom(err)
	}
	if err == nil && size > uploadLimit {
		err = tooLarge(uploadLimit)
	}
	if err == nil {
		_, err = file.Seek(0, io.SeekStart)
	}
	if err != nil {
		_ = file.Close() // it is given up
		return nil, err
	}
	return file, nil
}
