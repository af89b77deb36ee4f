package service

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"syscall"

	"vorrang/core/engine"
	"vorrang/core/lane"
)

// mostReferred is how long what a reference leads to may be, mostListed how long a list of targets, in
// bytes.
const (
	mostReferred = 64 << 10
	mostListed   = 1 << 20
)

// ourOwn are the variables that are the service's, and nobody's target: whoever
// declares a lane must not read the service's secrets by it.
func ourOwn(variable string) bool {
	return strings.HasPrefix(variable, "OTEL_") ||
		strings.HasPrefix(variable, "VORRANG_") && !strings.HasPrefix(variable, "VORRANG_TARGET_")
}

// mayRefer reports whether a reference is one that lanes and hooks may have: by
// one of the patterns of the service's setting, or, without any, all.
func (s *targets) mayRefer(reference string) bool {
	if list, _, is := lane.PartOf(reference); is {
		reference = list
	}
	return len(s.References) == 0 || slices.ContainsFunc(s.References, func(pattern string) bool {
		is, err := path.Match(pattern, reference)
		return err == nil && is
	})
}

// resolve is what a reference of a lane or a hook stands for, if they may have it.
func (s *targets) resolve(reference string) (string, error) {
	if from, target, is := lane.PartOf(reference); is {
		list, err := s.list(from)
		if err == nil && list.urls[target] == "" {
			err = &engine.ConnectError{Kind: engine.BadURL, Message: "it no longer stands in the list of targets in " + from,
				Fix: "put its line back; or, if it is gone for good, set it aside with a reason"}
		}
		return list.urls[target], err
	}
	return s.resolveUpTo(reference, mostReferred)
}

// lists are the lists of targets that were read, by their references. A fleet's is read for each of its
// targets, and taken apart where it changed.
type lists struct {
	mu   sync.Mutex
	kept map[string]targetList
}

type targetList struct {
	text    string
	targets []lane.Target
	urls    map[string]string // by target
}

// list reads a list of targets. Its error is an *engine.ConnectError.
func (s *targets) list(from string) (targetList, error) {
	text, err := s.resolveUpTo(from, mostListed)
	if err != nil {
		return targetList{}, err
	}
	s.lists.mu.Lock()
	defer s.lists.mu.Unlock()
	if known := s.lists.kept[from]; known.text == text && known.urls != nil {
		return known, nil
	}
	read := targetList{text: text}
	if read.targets, read.urls, err = lane.ReadTargets(from, text); err != nil {
		return targetList{}, unlisted(err)
	}
	if s.lists.kept == nil {
		s.lists.kept = map[string]targetList{}
	}
	s.lists.kept[from] = read
	return read, nil
}

func unlisted(err error) error {
	return &engine.ConnectError{Kind: engine.BadURL, Message: err.Error(), Fix: "put the list there as it should be"}
}

// resolveUpTo is what a reference stands for, which may have so many bytes.
func (s *targets) resolveUpTo(reference string, most int64) (string, error) {
	if !s.mayRefer(reference) {
		return "", &engine.ConnectError{
			Kind:    engine.BadURL,
			Message: reference + " is not a reference that this service allows",
			Fix:     "vorrangd's setting -references says which it does: " + strings.Join(s.References, ", "),
		}
	}
	if name, isEnv := strings.CutPrefix(reference, "env:"); isEnv && ourOwn(name) {
		return "", &engine.ConnectError{
			Kind:    engine.BadURL,
			Message: "the variable " + name + " is the service's own, and no target's",
			Fix: "put the target's URL into another one, such as VORRANG_TARGET_" +
				strings.TrimPrefix(strings.TrimPrefix(name, "VORRANG_"), "OTEL_"),
		}
	}
	return resolve(reference, most)
}

// resolve turns a reference into what it stands for. Errors name the reference
// only, never what was found there.
func resolve(target string, most int64) (string, error) {
	unusable := func(message, fix string) error {
		return &engine.ConnectError{Kind: engine.BadURL, Message: message, Fix: fix}
	}
	if name, isEnv := strings.CutPrefix(target, "env:"); isEnv {
		if url := os.Getenv(name); url != "" && int64(len(url)) <= most {
			return url, nil
		}
		return "", unusable(
			"the variable "+name+" is not set in the service's environment",
			"set it where vorrangd is started, and start it again",
		)
	}
	const fix = "put what it stands for there, in an ordinary file that the user that vorrangd runs as can read"
	text, err := readSmall(strings.TrimPrefix(target, "file:"), most)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "", unusable(target+" is not there", fix)
	case errors.Is(err, fs.ErrPermission):
		return "", unusable("the service may not read "+target, fix)
	case err != nil:
		return "", unusable(target+" is not an ordinary file, or too long", fix)
	}
	return strings.TrimSpace(string(text)), nil
}

// readSmall reads an ordinary file. A pipe or a device does not hold it up.
func readSmall(path string, most int64) ([]byte, error) {
	file, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() || info.Size() > most {
		return nil, errors.New("no ordinary file")
	}
	return io.ReadAll(io.LimitReader(file, most))
}
