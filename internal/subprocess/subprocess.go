// Package subprocess does work in processes of its own, beside the one that asks: what
// walks by recursion in C, or takes more time or memory the larger its input is,
// ends only the process that was made for it. Such a process is this program
// once more, or another that stands beside it, kept warm, without its environment, and
// with limits.
package subprocess

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"time"
)

var (
	// ErrEnded says that the process ended over a request: its stack or its
	// memory was at an end, or the code has a fault.
	ErrEnded = errors.New("it took more memory or stack than it may")
	// ErrLate says that a request took longer than it may.
	ErrLate = errors.New("it took longer than it may")
	// ErrAbsent says that the program for a work is not where it should be.
	ErrAbsent = errors.New("its program is not there")
)

// Limits are those of one process, for each request.
type Limits struct {
	Processes int           // at once
	Time      time.Duration // for a request
	Memory    uint64        // bytes that a process may take beyond what it has when it starts
}

// Work is something that is done in a process of its own.
type Work struct {
	name    string
	program string // that does it; empty for this one
	limits  Limits
	places  chan *process // as many as there may be processes; nil where none runs
}

// mostAnswer bounds what is read of one answer, in bytes.
const mostAnswer = 512 << 20

// New names a work, and says how it is done. It belongs into a package variable:
// in a process that was made for the work it does not return. Do must not need
// anything that is set later, nor the environment.
func New(name string, limits Limits, do func(request []byte) (answer []byte)) *Work {
	Serve(name, limits, do)
	return Beside("", name, limits)
}

// Beside names a work that another program does, whose main function calls Serve: what this
// one is not to be made of.
func Beside(program, name string, limits Limits) *Work {
	w := &Work{name: name, program: program, limits: limits, places: make(chan *process, limits.Processes)}
	for range limits.Processes {
		w.places <- nil
	}
	return w
}

// Serve does a work in a process that was made for it, and does not return there. It does
// nothing in any other.
func Serve(name string, limits Limits, do func(request []byte) (answer []byte)) {
	if os.Args[0] == processName(name) {
		serve(limits, do)
		os.Exit(0)
	}
}

// Find finds a program that Beside names: in the folder of this one, or in lib/vorrang next to
// that folder. Its error is ErrAbsent. Tests set it.
var Find = func(program string) (string, error) {
	own, err := os.Executable()
	if err != nil {
		return "", err
	}
	folder := filepath.Dir(own)
	for _, path := range []string{filepath.Join(folder, program), filepath.Join(folder, "..", "lib", "vorrang", program)} {
		if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() && info.Mode()&0o111 != 0 {
			return path, nil
		}
	}
	return "", fmt.Errorf("%w: no %s that can be run is in %s, nor in lib/vorrang beside that", ErrAbsent, program, folder)
}

func processName(work string) string { return "vorrang: " + work }

// Do gives a request to a process, and waits for the answer. It waits first for
// one that is free. Its errors are ErrEnded, ErrLate, ErrAbsent, ctx's, or that no
// process could be started.
func (w *Work) Do(ctx context.Context, request []byte) ([]byte, error) {
	var p *process
	select {
	case p = <-w.places:
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
	defer func() { w.places <- p }()
	used := p != nil
	for {
		if p == nil {
			var err error
			if p, err = w.start(); err != nil {
				return nil, fmt.Errorf("start a process for %s: %w", w.name, err)
			}
		}
		answer, err := p.ask(ctx, request, w.limits.Time)
		if err == nil {
			return answer, nil
		}
		p.end()
		p = nil
		if errors.Is(err, ErrEnded) && used {
			used = false // it may have ended before, of something else
			continue
		}
		return nil, err
	}
}

// process is one that waits for requests.
type process struct {
	command *exec.Cmd
	in, out *os.File
}

// self is this program, also when its file was replaced meanwhile.
var self = func() string {
	const running = "/proc/self/exe"
	if _, err := os.Stat(running); err == nil {
		return running
	}
	path, _ := os.Executable() // a system without /proc
	return path
}()

func (w *Work) start() (*process, error) {
	path := self
	if w.program != "" {
		var err error
		if path, err = Find(w.program); err != nil {
			return nil, err
		}
	}
	theirIn, in, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	out, theirOut, err := os.Pipe()
	if err != nil {
		_, _ = theirIn.Close(), in.Close()
		return nil, err
	}
	// There is no folder for temporary files: libraries would keep there what they run later,
	// and others may write to such a folder.
	command := &exec.Cmd{Path: path, Args: []string{processName(w.name)}, Stdin: theirIn, Stdout: theirOut,
		Env: []string{"GOTRACEBACK=none", "GOMAXPROCS=2", "TMPDIR=/nonexistent"}, Dir: "/",
		SysProcAttr: &syscall.SysProcAttr{Setpgid: true}} // Ctrl-C is not meant for it
	err = command.Start()
	_, _ = theirIn.Close(), theirOut.Close()
	if err != nil {
		_, _ = in.Close(), out.Close()
		return nil, err
	}
	return &process{command, in, out}, nil
}

// end kills the process, and lets the system forget it.
func (p *process) end() {
	_ = p.command.Process.Kill() // it may have ended
	_, _ = p.in.Close(), p.out.Close()
	_ = p.command.Wait() // it was killed
}

func (p *process) ask(ctx context.Context, request []byte, most time.Duration) ([]byte, error) {
	deadline := time.Now().Add(most)
	_, _ = p.in.SetDeadline(deadline), p.out.SetDeadline(deadline)
	stop := context.AfterFunc(ctx, func() { _ = p.out.SetDeadline(time.Unix(1, 0)) })
	wrote := make(chan error, 1)
	go func() { wrote <- writeFrame(p.in, request) }()
	answer, err := readFrame(p.out)
	if err == nil {
		err = <-wrote
	}
	switch gone := !stop(); {
	case gone: // also where the answer was there: the process has no time for a next one
		return nil, context.Cause(ctx)
	case errors.Is(err, os.ErrDeadlineExceeded):
		return nil, ErrLate
	case err != nil:
		return nil, ErrEnded
	}
	return answer, nil
}

func writeFrame(w io.Writer, body []byte) error {
	if _, err := w.Write(binary.BigEndian.AppendUint32(nil, uint32(len(body)))); err != nil {
		return err
	}
	_, err := w.Write(body)
	return err
}

func readFrame(r io.Reader) ([]byte, error) {
	var head [4]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return nil, err
	}
	size := binary.BigEndian.Uint32(head[:])
	if size > mostAnswer {
		return nil, fmt.Errorf("%d bytes are too many", size)
	}
	body := make([]byte, size)
	_, err := io.ReadFull(r, body)
	return body, err
}
