package sqlite

import (
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	sqlite3 "github.com/mattn/go-sqlite3"

	"vorrang/core/engine"
)

// target is what a URL says.
type target struct {
	path        string // without links
	foreignKeys bool   // SQLite holds foreign keys while a step runs
	file        os.FileInfo
}

// find reads a URL, and looks whether its file may be opened. Its error is a
// *engine.ConnectError.
func (e Engine) find(reference string) (target, error) {
	var t target
	refuse := func(kind engine.ConnectKind, err error, fix, format string, args ...any) (target, error) {
		return t, &engine.ConnectError{Kind: kind, Message: fmt.Sprintf(format, args...), Fix: fix, Err: err}
	}
	if e.Folder == "" {
		return refuse(
			engine.NotAdmitted, nil,
			"start vorrangd with -sqlite FOLDER, the folder that holds them",
			"this service opens no SQLite files",
		)
	}
	const form = "write it as sqlite:PATH, where PATH is one within the folder of vorrangd's -sqlite; ?foreign_keys=on " +
		"may stand behind it"
	u, err := url.Parse(reference)
	if err != nil || u.Scheme != "sqlite" || u.Host != "" || u.User != nil || u.Fragment != "" {
		return refuse(engine.BadURL, nil, form, "the connection URL cannot be read")
	}
	path := u.Path
	if u.Opaque != "" {
		path, err = url.PathUnescape(u.Opaque)
	}
	if err != nil || path == "" || strings.ContainsRune(path, 0) {
		return refuse(engine.BadURL, nil, form, "the connection URL names no file")
	}
	for key, values := range u.Query() {
		value := strings.Join(values, ", ")
		if key != "foreign_keys" || value != "on" && value != "off" {
			return refuse(
				engine.BadURL, nil,
				"foreign_keys=on or foreign_keys=off is all that may stand behind the path",
				"the connection URL says %s=%s",
				key, value,
			)
		}
		t.foreignKeys = value == "on"
	}
	folder, err := filepath.EvalSymlinks(e.Folder)
	if err == nil {
		folder, err = filepath.Abs(folder)
	}
	if err != nil {
		return refuse(
			engine.NotReady, err,
			"make it, or name another with vorrangd's -sqlite",
			"the folder %s cannot be read: %s",
			e.Folder, reasonOf(err),
		)
	}
	if !filepath.IsAbs(path) {
		path = filepath.Join(folder, path)
	}
	shown := path
	if path, err = filepath.EvalSymlinks(path); err != nil {
		fix := "make an empty file there if the database is to begin empty, as with touch; a file is never made by itself"
		if errors.Is(err, fs.ErrPermission) {
			return refuse(
				engine.NotAdmitted, err,
				"let the user that vorrangd runs as read it, and the folders that lead to it",
				"%s may not be read", shown,
			)
		}
		return refuse(engine.NoSuchDatabase, err, fix, "there is no file %s", shown)
	}
	if within, err := filepath.Rel(folder, path); err != nil || !filepath.IsLocal(within) {
		return refuse(
			engine.NotAdmitted, err,
			"keep it there, or name the folder that holds it with vorrangd's -sqlite",
			"%s does not lie under %s", shown, e.Folder,
		)
	}
	if t.file, err = os.Stat(path); err != nil {
		return refuse(
			engine.NotAdmitted, err,
			"let the user that vorrangd runs as read it",
			"%s cannot be read: %s",
			shown, reasonOf(err),
		)
	}
	switch stat, _ := t.file.Sys().(*syscall.Stat_t); {
	case t.file.IsDir():
		return refuse(engine.NoSuchDatabase, nil, "name the database's file in it", "%s is a folder", shown)
	case !t.file.Mode().IsRegular():
		return refuse(engine.NoSuchDatabase, nil, "name an ordinary file", "%s is not an ordinary file", shown)
	case stat != nil && stat.Nlink > 1: // its journal would stand beside one name only, and the lock too
		return refuse(
			engine.NotReady, nil,
			"keep one of the names: SQLite can lose the journal of a file with several",
			"%s has other names (hard links)",
			shown,
		)
	}
	t.path = path
	return t, nil
}

// reasonOf is an error of the operating system without the path.
func reasonOf(err error) string {
	var path *fs.PathError
	if errors.As(err, &path) {
		return path.Err.Error()
	}
	return err.Error()
}

// diagnose says why a file cannot be used as a database.
func (t target) diagnose(err error) error {
	var failed *engine.ServerError
	var refused sqlite3.Error
	failure := &engine.ConnectError{
		Kind:    engine.Unknown,
		Message: t.path + " cannot be opened: " + err.Error(),
		Fix:     "check the file with the sqlite3 shell",
		Err:     err,
	}
	code := ""
	switch {
	case errors.As(err, &failed):
		code, failure.Message = failed.SQLState, t.path+" cannot be opened: "+failed.Message
		if failed.Hint != "" {
			failure.Fix = failed.Hint
		}
	case errors.As(err, &refused):
		code = codeName(refused)
	}
	switch {
	case strings.HasPrefix(code, "SQLITE_NOTADB"):
		failure.Kind, failure.Message = engine.NoSuchDatabase, t.path+" is not an SQLite database"
		failure.Fix = "name the database's file; one that is encrypted cannot be used"
	case strings.HasPrefix(code, "SQLITE_CORRUPT"):
		failure.Kind, failure.Message = engine.NotReady, t.path+" is damaged"
	case strings.HasPrefix(code, "SQLITE_CANTOPEN"),
		strings.HasPrefix(code, "SQLITE_PERM"),
		strings.HasPrefix(code, "SQLITE_READONLY"):
		failure.Kind = engine.NotAdmitted
		failure.Fix = hints[sqlite3.ErrReadonly]
	case strings.HasPrefix(code, "SQLITE_BUSY"), strings.HasPrefix(code, "SQLITE_LOCKED"):
		failure.Kind = engine.NotReady
		failure.Fix = "try again when the other one has ended, or find who holds it: fuser " + t.path
	}
	return failure
}

// writable reports whether the file and its folder may be written to.
func (t target) writable() bool {
	const write = 2
	return syscall.Access(t.path, write) == nil && syscall.Access(filepath.Dir(t.path), write) == nil
}
